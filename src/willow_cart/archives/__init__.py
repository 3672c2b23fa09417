"""Archives: what is in them, and getting it out without coming to harm."""

from willow_cart.archives.bounds import Bounds, Outflow
from willow_cart.archives.emptying import Emptied, LeftOut, Taken, empty, lifted, open_members
from willow_cart.archives.members import Damaged, Member, Sort

__all__ = [
    "Bounds",
    "Damaged",
    "Emptied",
    "LeftOut",
    "Member",
    "Outflow",
    "Sort",
    "Taken",
    "empty",
    "lifted",
    "open_members",
]
