"""The request of `pick`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.options.option import flag
from willow_cart.options.shared import CART
from willow_cart.requests.request import ReachingRequest


class PickRequest(ReachingRequest):
    """A request to pick rows of a cart."""

    command = "pick"

    out: bool = flag("take the chosen rows out", one_of="way")
    only: bool = flag("take all other rows out", one_of="way")
    back: bool = flag("put the chosen rows back", one_of="way")
    undo: bool = flag("undo the last change; repeat it to redo the change", one_of="way")
    gone: bool = flag("choose only rows that were no longer offered at the last load")
    cart: Path = CART
    choosing: Choosing = Choosing()
