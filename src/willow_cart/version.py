"""The version, alone, so that nothing else need be imported to know it."""

__version__ = "0.1.0"
