"""Bringing what was chosen home: fetch, check, file."""

from willow_cart.haul.account import Account
from willow_cart.haul.destination import put_rotten_aside
from willow_cart.haul.handling import Command
from willow_cart.haul.observer import Handled, Observer, Unpacked, all_of
from willow_cart.haul.pace import Limits, Pace
from willow_cart.haul.presence import Presence
from willow_cart.haul.refiling import Refiled, refile
from willow_cart.haul.room import Prospect, prospect
from willow_cart.haul.run import bring_home
from willow_cart.haul.same_bytes import SameBytes
from willow_cart.haul.unpacking import Unpacking
from willow_cart.haul.unpacking_here import unpack
from willow_cart.haul.wishes import Wishes

__all__ = [
    "Account",
    "Command",
    "Handled",
    "Limits",
    "Observer",
    "Pace",
    "Presence",
    "Prospect",
    "Refiled",
    "SameBytes",
    "Unpacked",
    "Unpacking",
    "Wishes",
    "all_of",
    "bring_home",
    "prospect",
    "put_rotten_aside",
    "refile",
    "unpack",
]
