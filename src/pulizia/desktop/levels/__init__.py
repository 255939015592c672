"""The Levels panel: every gauge, the loudness of the whole, and its history."""
