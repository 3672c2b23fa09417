"""The options for how a haul is done: how many at a time, how politely, patiently and warily."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from willow_cart.cli.connecting import make_patience
from willow_cart.cli.filing import make_rule
from willow_cart.cli.unpacking import make_unpacking, read_bounds, require_of_use
from willow_cart.jobs.haul import HaulRequest
from willow_cart.jobs.hauling_options import PaceOptions

if TYPE_CHECKING:
    from willow_cart.access import RequestRules
    from willow_cart.hauling import Wishes

# How many connections one host gets where nobody says.
_LANES_PER_HOST = 4

# Seconds on the average between two files for those who are shy.
_SHY_GAP = 2.0


def make_wishes(request: HaulRequest) -> Wishes:
    """How the options of a haul want it done."""
    from willow_cart.hauling import Command, Presence, SameBytes

    if request.unpack:
        unpack = make_unpacking(request, request.name_parts, request.unpack)
    else:
        require_of_use(request)
        unpack = None
    return replace(
        make_pace(request),
        layout=make_rule(request),
        accept_anything=request.accept_anything,
        inspect=request.inspect,
        bounds=read_bounds(request.swell_at_most),
        must_check=request.must_check,
        tight=request.tight,
        presence=Presence(request.if_present),
        twins=SameBytes(request.twins),
        unpack=unpack,
        keep_times=request.times == "keep",
        on_arrival=None if request.on_arrival is None else Command(request.on_arrival),
    )


def make_pace(request: PaceOptions) -> Wishes:
    """How politely, patiently and warily the options want it done, and nothing besides."""
    from willow_cart.hauling import Limits, Pace, Wishes

    pace = Pace(request.gap, speed_cap=request.speed_cap)
    if request.one_by_one:
        pace = replace(pace, gap=request.gap or _SHY_GAP, jitter=0.5)
    strands: int | None = request.strands
    lanes: int = max(request.lanes, strands or 1)
    per_host: int = request.lanes_per_host or max(_LANES_PER_HOST, strands or 1)
    if request.one_by_one:
        lanes = per_host = strands = 1
    return Wishes(
        lanes=lanes,
        lanes_per_host=per_host,
        patience=make_patience(request),
        pace=pace,
        limits=Limits(request.largest, request.slowest, request.time_per_file),
        strands=strands,
    )


def make_request_rules(request: PaceOptions, wishes: Wishes) -> RequestRules:
    """Return how the options of a haul want requests made, those of the look before it too."""
    from random import random

    from willow_cart.access import RequestRules

    pace = wishes.pace
    return RequestRules(
        wishes.patience,
        (lambda: pace.gap_after(random())) if pace.gap else None,  # noqa: S311  # not a secret
        request.stall_after,
        request.time_per_file,
    )
