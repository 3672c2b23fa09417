"""Carts as Python files that bring them home by themselves, where nothing but Python is."""

from willow_cart.standalone.writing import write_script

__all__ = ["write_script"]
