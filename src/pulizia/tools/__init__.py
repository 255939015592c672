"""One module per tool, and the list of them."""
