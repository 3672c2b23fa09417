"""`errand`: a job that is written down."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.option import argument, flag, option
from willow_cart.options.shared import OverwriteOption
from willow_cart.requests.request import Request


@dataclass(frozen=True, kw_only=True)
class ErrandRequest(OverwriteOption, Request):
    """What `errand` is asked for."""

    command = "errand"

    file: Path = argument(Path(), Path, "the errand", metavar="FILE")
    preview: bool = flag(
        "show its values, what would be fetched, where it would go and what would be done"
    )
    set: tuple[str, ...] = option(
        (),
        str,
        "give a value of the errand another word for this run",
        metavar="NAME=VALUE",
        many=True,
    )
    from_: str | None = option(
        None,
        str,
        "fetch nothing, and begin with a step: its number, or what it is, such as combine",
        metavar="STEP",
    )
    new: tuple[str, ...] | None = option(
        None,
        str,
        "write the file: an errand of these sources, with what they offer in comments",
        metavar="SOURCE",
        nargs="+",
    )
    summary: Path | None = option(
        None, Path, "write what came of it into a file, in one line", metavar="FILE"
    )
