"""An open project behind a window, without any window."""
