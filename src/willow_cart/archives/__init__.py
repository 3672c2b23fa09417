"""Read archives and extract them safely."""

from willow_cart.archives.bounds import Bounds, Outflow
from willow_cart.archives.extract import (
    Emptied,
    ExtractedMember,
    LeftOut,
    empty,
    lifted,
    open_members,
)
from willow_cart.archives.members import Damaged, Member, MemberSort

__all__ = [
    "Bounds",
    "Damaged",
    "Emptied",
    "ExtractedMember",
    "LeftOut",
    "Member",
    "MemberSort",
    "Outflow",
    "empty",
    "lifted",
    "open_members",
]
