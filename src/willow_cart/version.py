"""The version, in a module of its own for fast imports."""

__version__ = "0.1.0"
