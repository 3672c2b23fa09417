"""Errands: whole jobs in a file, to be run again."""

from willow_cart.errands.job import Document, read_document
from willow_cart.errands.memory import LAST_RUN, Memory
from willow_cart.errands.values import Values

__all__ = ["LAST_RUN", "Document", "Memory", "Values", "read_document"]
