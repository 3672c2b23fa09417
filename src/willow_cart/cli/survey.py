"""`survey`: look at what is offered and chosen; fetches no file."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from willow_cart.cli import showing
from willow_cart.cli.connecting import make_access
from willow_cart.cli.looking import Looker
from willow_cart.errors import BadOption
from willow_cart.exits import Exit
from willow_cart.jobs.survey import SurveyRequest

if TYPE_CHECKING:
    from willow_cart.cli.showing import Showing


def run(request: SurveyRequest) -> int:
    """Look, choose, and show."""
    with make_access([request], request.lanes) as access:
        looker = Looker(request, access, request.lanes)
        _make_showing(request).show(looker)
    looker.choice.require_some()
    incomplete = looker.found.troubles or looker.unanswered
    return Exit.INCOMPLETE if incomplete else Exit.GOOD


def _make_showing(request: SurveyRequest) -> Showing:

    if request.json:
        return showing.AsJson(why=request.why)
    if request.csv:
        return showing.AsCart(sys.stdout, why=request.why)
    if request.tree:
        if request.why:
            raise BadOption("--why", "does not go with --tree", "leave out one of them")
        return showing.AsTree()
    return showing.AsTable(why=request.why)
