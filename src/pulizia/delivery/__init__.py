"""Targets, normalising, writing and verifying."""
