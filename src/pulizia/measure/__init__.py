"""Numbers and pictures out of sound."""
