"""Copy pages with everything they need, to be read without a network."""

from willow_cart.offline_copies.making import Readings, make_readable
from willow_cart.offline_copies.scope import Out, Scope, Stay
from willow_cart.offline_copies.taking import Missing, TakenPages, take

__all__ = ["Missing", "Out", "Readings", "Scope", "Stay", "TakenPages", "make_readable", "take"]
