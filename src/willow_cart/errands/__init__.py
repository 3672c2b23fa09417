"""Errands: whole jobs, written down in a file and run again next month."""

from willow_cart.errands.document import Document, read_document
from willow_cart.errands.memory import LAST_RUN, Memory
from willow_cart.errands.values import Values

__all__ = ["LAST_RUN", "Document", "Memory", "Values", "read_document"]
