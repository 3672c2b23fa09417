"""The options for how a haul is done: how many at a time, how politely, patiently and warily."""

from __future__ import annotations

import argparse
from dataclasses import replace
from typing import TYPE_CHECKING

from willow_cart.cli.connecting import make_patience
from willow_cart.cli.filing import make_rule
from willow_cart.cli.unpacking import make_unpacking, read_bounds, require_of_use

if TYPE_CHECKING:
    from willow_cart.access import RequestRules
    from willow_cart.hauling import Wishes

# How many connections one host gets where nobody says.
_LANES_PER_HOST = 4

# Seconds on the average between two files for those who are shy.
_SHY_GAP = 2.0


def make_wishes(args: argparse.Namespace) -> Wishes:
    """How the options of a haul want it done."""
    from willow_cart.hauling import Command, Presence, SameBytes

    if args.unpack:
        unpack = make_unpacking(args, args.unpack)
    else:
        require_of_use(args)
        unpack = None
    return replace(
        make_pace(args),
        layout=make_rule(args),
        accept_anything=args.accept_anything,
        inspect=args.inspect,
        bounds=read_bounds(args.swell_at_most),
        must_check=args.must_check,
        tight=args.tight,
        presence=Presence(args.if_present),
        twins=SameBytes(args.twins),
        unpack=unpack,
        keep_times=args.times == "keep",
        on_arrival=None if args.on_arrival is None else Command(args.on_arrival),
    )


def make_pace(args: argparse.Namespace) -> Wishes:
    """How politely, patiently and warily the options want it done, and nothing besides."""
    from willow_cart.hauling import Limits, Pace, Wishes

    pace = Pace(args.gap, speed_cap=args.speed_cap)
    if args.one_by_one:
        pace = replace(pace, gap=args.gap or _SHY_GAP, jitter=0.5)
    strands: int | None = args.strands
    lanes: int = max(args.lanes, strands or 1)
    per_host: int = args.lanes_per_host or max(_LANES_PER_HOST, strands or 1)
    if args.one_by_one:
        lanes = per_host = strands = 1
    return Wishes(
        lanes=lanes,
        lanes_per_host=per_host,
        patience=make_patience(args),
        pace=pace,
        limits=Limits(args.largest, args.slowest, args.time_per_file),
        strands=strands,
    )


def make_request_rules(args: argparse.Namespace, wishes: Wishes) -> RequestRules:
    """Return how the options of a haul want requests made, those of the look before it too."""
    from random import random

    from willow_cart.access import RequestRules

    pace = wishes.pace
    return RequestRules(
        wishes.patience,
        (lambda: pace.gap_after(random())) if pace.gap else None,  # noqa: S311  # not a secret
        args.stall_after,
        args.time_per_file,
    )
