"""Bringing what was chosen home: fetch, check, file."""

from willow_cart.haul.account import Account
from willow_cart.haul.destination import put_rotten_aside
from willow_cart.haul.observer import Observer, all_of
from willow_cart.haul.pace import Limits, Pace
from willow_cart.haul.presence import Presence
from willow_cart.haul.refiling import Refiled, refile
from willow_cart.haul.room import Prospect, prospect
from willow_cart.haul.run import bring_home
from willow_cart.haul.wishes import Wishes

__all__ = [
    "Account",
    "Limits",
    "Observer",
    "Pace",
    "Presence",
    "Prospect",
    "Refiled",
    "Wishes",
    "all_of",
    "bring_home",
    "prospect",
    "put_rotten_aside",
    "refile",
]
