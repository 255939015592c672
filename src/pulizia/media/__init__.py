"""Sound and picture files: opening, decoding, writing."""
