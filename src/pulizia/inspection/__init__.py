"""Listening through a recording for everything that the tools could mend."""
