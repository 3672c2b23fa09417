"""Pages with all that they need, taken and made readable without a network."""

from willow_cart.offline.making import Readings, make_readable
from willow_cart.offline.scope import Out, Scope, Stay
from willow_cart.offline.taking import Missing, TakenPages, take

__all__ = ["Missing", "Out", "Readings", "Scope", "Stay", "TakenPages", "make_readable", "take"]
