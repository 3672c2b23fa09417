"""Carts as standalone Python scripts."""

from willow_cart.standalone.writing import write_script

__all__ = ["write_script"]
