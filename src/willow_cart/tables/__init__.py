"""Combine tables into one."""

from willow_cart.tables.combined import Combined, Combining
from willow_cart.tables.table_files import TableFile

__all__ = ["Combined", "Combining", "TableFile"]
