"""The option table: each option is defined once, in groups that requests inherit."""

from willow_cart.options.option import Option, groups_of

__all__ = ["Option", "groups_of"]
