"""Samples in memory, spans of frames, and what everything that sounds is."""
