"""The commands as Python functions for scripts and notebooks."""
