"""Bringing what was chosen home: fetch, check, file."""

from willow_cart.haul.account import Account
from willow_cart.haul.observer import Observer
from willow_cart.haul.room import Prospect, prospect
from willow_cart.haul.run import Wishes, bring_home

__all__ = ["Account", "Observer", "Prospect", "Wishes", "bring_home", "prospect"]
