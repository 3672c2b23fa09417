"""`unpack`: unpack archives on this machine."""

from __future__ import annotations

from willow_cart.hauling.summary import HaulSummary
from willow_cart.hauling.unpacking_here import unpack as unpack_here
from willow_cart.jobs.hauling_policies import make_unpacking
from willow_cart.observer import Observer
from willow_cart.requests.secrets import shown_command
from willow_cart.requests.unpack import UnpackRequest


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
