"""The options for how a haul is done: how many at a time, how politely, patiently and warily."""

from __future__ import annotations

import argparse
from dataclasses import replace
from typing import TYPE_CHECKING

from willow_cart.cli.connecting import add_patience, make_patience
from willow_cart.cli.filing import make_rule
from willow_cart.cli.options import few, read_seconds, read_size, read_speed
from willow_cart.cli.unpacking import make_unpacking, read_bounds, require_of_use

if TYPE_CHECKING:
    from willow_cart.access import RequestRules
    from willow_cart.hauling import Wishes

# How many connections one host gets where nobody says.
_LANES_PER_HOST = 4

# Seconds on the average between two files for those who are shy.
_SHY_GAP = 2.0


def add_pace(command: argparse.ArgumentParser) -> None:
    """Add how politely, patiently and warily it is to be done."""
    pace = command.add_argument_group("pace")

    def add(option: str, metavar: str, text: str, **more: object) -> None:
        pace.add_argument(option, metavar=metavar, help=text, **more)  # type: ignore[arg-type]

    add("--lanes", "N", "how many files, or strands of files, are fetched at a time (%(default)s)",
        type=few, default=8)  # fmt: skip
    add("--lanes-per-host", "N", f"how many of them from one host ({_LANES_PER_HOST}, or as many as"
        " there are strands)", type=few)  # fmt: skip
    add("--strands", "N|auto", "on how many lanes, at most, one large file is fetched when lanes"
        " have nothing else to do; auto takes more while that pays (%(default)s)",
        type=_read_strands, default="1")  # fmt: skip
    add("--gap", "SECONDS", "between two starts at one host", type=read_seconds, default=0.0)
    pace.add_argument(
        "--one-by-one",
        action="store_true",
        help="for shy servers: one file at a time, with a gap that is never quite the same",
    )
    add("--speed-cap", "SPEED", "no faster than this in all: 2MB/s", type=read_speed)
    add_patience(pace)
    add("--stall-after", "SECONDS", "try again if nothing comes for so long (%(default)s)",
        type=read_seconds, default=60)  # fmt: skip
    add("--slowest", "SPEED", "try again what comes more slowly on the average", type=read_speed)
    add("--time-per-file", "SECONDS", "no longer than this for one attempt at a file: 2h; what has"
        " come is kept", type=read_seconds)  # fmt: skip
    add("--largest", "SIZE", "refuse files that are larger, announced or not", type=read_size)


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


def _read_strands(text: str) -> int | None:
    """Read how many strands a file may have; None for as many as pay."""
    return None if text == "auto" else few(text)
