"""Bringing what was chosen home: fetch, check, file."""

from willow_cart.haul.account import Account
from willow_cart.haul.observer import Observer
from willow_cart.haul.run import Wishes, bring_home

__all__ = ["Account", "Observer", "Wishes", "bring_home"]
