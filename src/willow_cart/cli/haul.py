"""`haul`: fetch, check, file."""

from __future__ import annotations

from pathlib import Path

from willow_cart.access.local import path_of
from willow_cart.cart import Find, form_for
from willow_cart.cli.bringing import bring, keeping_answers
from willow_cart.cli.connecting import make_access
from willow_cart.cli.detaching import Background, detach
from willow_cart.cli.errand_writing import write_errand
from willow_cart.cli.filing import preview
from willow_cart.cli.load import put_in_cart
from willow_cart.cli.looking import Looker
from willow_cart.cli.running import shown_command
from willow_cart.cli.telling import tell
from willow_cart.errors import UnusableDestination
from willow_cart.exits import Exit
from willow_cart.jobs.haul import HaulRequest
from willow_cart.jobs.hauling_policies import make_request_rules, make_wishes
from willow_cart.sources import Look


def run(request: HaulRequest) -> int:
    """Look, choose, haul, and account for it, here or in the background."""
    require_outside(request)
    if not request.detach:
        return _run(request, None)
    background = detach(shown_command(request), request.into)
    if isinstance(background, int):
        return background
    try:
        return _run(request, background)
    except BaseException:
        background.failed()
        raise


def _run(request: HaulRequest, background: Background | None) -> int:

    if request.cart is not None:
        form_for(request.cart)  # a name that says nothing is told before any work is done
    wishes = make_wishes(request)
    if request.write_errand is not None:
        write_errand(request.write_errand, "haul", request.typed[1:])
    lanes = wishes.lanes_per_host
    with (
        make_access([request], lanes, make_request_rules(request, wishes)) as made,
        keeping_answers(made, request.into, lanes) as (access, asking),
    ):
        looker = Looker(request, access, lanes, asking=None if request.preview else asking)
        offers = looker.chosen()
        troubles = len(looker.found.troubles)
        if request.preview:
            preview(offers, request.into, wishes.layout)
            return Exit.INCOMPLETE if troubles else Exit.GOOD
        if request.cart is not None:
            # Left behind now, so that it is there whatever becomes of the haul.
            find = Find((offer, True) for offer in offers)
            tell(put_in_cart(find, request.cart, Look(sources=looker.found.sources), add=False))
        return bring(request, wishes, offers, access, background, troubles=troubles)


def require_outside(request: HaulRequest) -> None:
    """Refuse a destination in the midst of what is hauled: every run would haul the one before.

    Raises:
        UnusableDestination: it is one.
    """
    into = request.into.resolve()
    for source in request.sources:
        folder = Path(path_of(source) if source.startswith("file://") else source)
        if request.depth != 1 and folder.is_dir() and into.is_relative_to(folder.resolve()):
            raise UnusableDestination(
                str(request.into), f"lies in {source}, which is to be hauled", "name another --into"
            )
