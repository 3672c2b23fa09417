"""Archives: what is in them, and getting it out without coming to harm."""

from willow_cart.archives.bounds import Bounds
from willow_cart.archives.emptying import Emptied, LeftOut, Taken, empty, lifted

__all__ = ["Bounds", "Emptied", "LeftOut", "Taken", "empty", "lifted"]
