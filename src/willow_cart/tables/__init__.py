"""Combine tables into one."""

from willow_cart.tables.combining import Combined, Combining, combine
from willow_cart.tables.table_files import TableFile

__all__ = ["Combined", "Combining", "TableFile", "combine"]
