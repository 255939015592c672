"""The Bench: one recording and its score."""
