"""What places offer: lists of addresses, tables, and addresses by themselves."""

from willow_cart.sources.asking import ask_sizes
from willow_cart.sources.look import Look, look

__all__ = ["Look", "ask_sizes", "look"]
