"""The window: the only layer that knows Qt."""
