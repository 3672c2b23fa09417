"""The cart: the reviewable list of offers, as a table."""

from willow_cart.cart.table import COLUMNS, cover, looks_like_table, read_table, write_table

__all__ = ["COLUMNS", "cover", "looks_like_table", "read_table", "write_table"]
