"""Haul offers: fetch, check and file."""

from willow_cart.hauling.refiling import Refiled, refile
from willow_cart.hauling.room import Prospect, prospect
from willow_cart.hauling.run import MultiPassRun, haul_offers
from willow_cart.hauling.summary import HaulSummary
from willow_cart.hauling.unpacking_here import unpack
from willow_cart.hauling.vanished import find_gone, move_corrupt_aside, move_gone_aside
from willow_cart.transfer.duplicates import DuplicatePolicy
from willow_cart.transfer.existing_files import ExistingFilePolicy
from willow_cart.transfer.observer import Handled, Observer, Unpacked, all_of
from willow_cart.transfer.pace import Limits, Pace
from willow_cart.transfer.policy import ArrivalCommand, HaulPolicy, Unpacking

__all__ = [
    "ArrivalCommand",
    "DuplicatePolicy",
    "ExistingFilePolicy",
    "Handled",
    "HaulPolicy",
    "HaulSummary",
    "Limits",
    "MultiPassRun",
    "Observer",
    "Pace",
    "Prospect",
    "Refiled",
    "Unpacked",
    "Unpacking",
    "all_of",
    "find_gone",
    "haul_offers",
    "move_corrupt_aside",
    "move_gone_aside",
    "prospect",
    "refile",
    "unpack",
]
