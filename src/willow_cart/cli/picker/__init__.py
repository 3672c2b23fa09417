"""The picker: a cart on the terminal, with its folders and rows to tick."""
