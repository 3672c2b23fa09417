"""Choose among offers by one immutable value, the same in every command."""

from willow_cart.choosing.choosing import Choice, Choosing, Learn

__all__ = ["Choice", "Choosing", "Learn"]
