"""Files that ship with the program: targets and demo recordings."""
