"""Bringing what was chosen home: fetch, check, file."""

from willow_cart.hauling.account import Account
from willow_cart.hauling.refiling import Refiled, refile
from willow_cart.hauling.room import Prospect, prospect
from willow_cart.hauling.run import Rounds, bring_home
from willow_cart.hauling.unpacking_here import unpack
from willow_cart.hauling.vanished import find_gone, put_gone_aside, put_rotten_aside
from willow_cart.transfer.observer import Handled, Observer, Unpacked, all_of
from willow_cart.transfer.pace import Limits, Pace
from willow_cart.transfer.presence import Presence
from willow_cart.transfer.same_bytes import SameBytes
from willow_cart.transfer.wishes import Command, Unpacking, Wishes

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
    "Rounds",
    "SameBytes",
    "Unpacked",
    "Unpacking",
    "Wishes",
    "all_of",
    "bring_home",
    "find_gone",
    "prospect",
    "put_gone_aside",
    "put_rotten_aside",
    "refile",
    "unpack",
]
