"""The option table: each option is defined once, in groups that requests have."""

from willow_cart.options.option import Option, Options

__all__ = ["Option", "Options"]
