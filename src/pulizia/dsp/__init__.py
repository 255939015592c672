"""Published methods as pure functions on arrays."""
