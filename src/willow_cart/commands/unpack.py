"""`unpack`: unpack archives on this machine."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.commands.policies import make_unpacking
from willow_cart.commands.request import Request, shown_command
from willow_cart.hauling.summary import HaulSummary
from willow_cart.hauling.unpacking_here import unpack as unpack_here
from willow_cart.observer import Observer
from willow_cart.options.hauling import UnpackingOptions
from willow_cart.options.option import argument, option


class UnpackRequest(Request):
    """A request to unpack archives."""

    command = "unpack"

    archives: tuple[Path, ...] = argument(
        (), Path, "a folder that was hauled into, or an archive", metavar="DIR|ARCHIVE", nargs="+"
    )
    into: Path | None = option(
        None,
        Path,
        "the folder to unpack into (the folder they were hauled into, or the one that contains "
        "them)",
        metavar="DIR",
    )
    name_parts: str = option(
        "",
        str,
        "defines fields for --unpack-to from parts of names, as for --file-as",
        metavar="REGEX",
    )
    unpacking: UnpackingOptions = UnpackingOptions()
    choosing: Choosing = Choosing()


def unpack(request: UnpackRequest, observer: Observer) -> HaulSummary:
    """Unpack the chosen archives, and return the summary.

    Raises:
        NothingChosen: nothing is left to unpack.
        WillowCartError: an option cannot be understood, or nothing can be filed there.
    """
    wish = make_unpacking(request.unpacking, request.name_parts, ())
    choosing = request.choosing
    with observer.stoppable() as stop:
        return unpack_here(
            request.archives,
            request.into,
            wish,
            choosing,
            command=shown_command(request),
            observer=observer,
            stop=stop,
        )
