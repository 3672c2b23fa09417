"""The request of `errand`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.options.looking import LookingOptions
from willow_cart.options.option import argument, flag, option
from willow_cart.options.shared import OVERWRITE
from willow_cart.requests.request import ReachingRequest


class ErrandRequest(ReachingRequest):
    """A request to run an errand, or to write one; how to look and choose is for the latter."""

    command = "errand"

    file: Path = argument(Path(), Path, "the errand", metavar="FILE")
    preview: bool = flag("show the values, what would be fetched, where it would go, and the steps")
    set: tuple[str, ...] = option(
        (),
        str,
        "set a value of the errand for this run",
        metavar="NAME=VALUE",
        many=True,
    )
    from_: str | None = option(
        None,
        str,
        "fetch nothing and start with this step: its number or its name, such as combine",
        metavar="STEP",
    )
    new: tuple[str, ...] | None = option(
        None,
        str,
        "create the file: an errand for this source, with what it offers in comments, and with "
        "the options for looking, choosing and signing in that you give",
        metavar="SOURCE",
        nargs="+",
    )
    summary: Path | None = option(
        None, Path, "write a one-line summary of the result to a file", metavar="FILE"
    )
    overwrite: bool = OVERWRITE
    looking: LookingOptions = LookingOptions()
    choosing: Choosing = Choosing()
