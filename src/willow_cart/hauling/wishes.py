"""Wishes: how a haul is to be done, as one value."""

from __future__ import annotations

from dataclasses import dataclass, field

from willow_cart.access import Patience
from willow_cart.archives import Bounds
from willow_cart.filing import Layout
from willow_cart.filing.plan import Rule
from willow_cart.hauling.handling import Command
from willow_cart.hauling.pace import Limits, Pace
from willow_cart.hauling.presence import Presence
from willow_cart.hauling.same_bytes import SameBytes
from willow_cart.hauling.unpacking import Unpacking


@dataclass(frozen=True, slots=True)
class Wishes:
    """How a haul is to be done.

    Attributes:
        layout: the rule for where files go.
        lanes: how many files are fetched at a time.
        lanes_per_host: how many of them from one host.
        patience: when to try again.
        accept_anything: whether pages are filed that come where something else was asked for.
        inspect: whether what arrives is opened to see whether it is sound inside.
        bounds: how far an archive may swell that is inspected.
        must_check: whether files are refused that no checksum proves.
        tight: whether to begin although there is not enough room for everything.
        presence: what becomes of files that lie here already.
        pace: how politely hosts are asked.
        limits: what a single file may not do.
        twins: what becomes of files whose bytes lie here already under another name.
        unpack: how archives that arrive are unpacked; None if they are not.
        on_arrival: a command to be run for every file that arrives; None for none.
        keep_times: whether files get the time at which they were changed last at their places.
        one_process: whether no second process may help with small files.
        strands: on how many lanes at most one large file is fetched; None for as many as pay.
    """

    layout: Rule = Layout.TREE
    lanes: int = 8
    lanes_per_host: int = 4
    patience: Patience = field(default_factory=Patience)
    accept_anything: bool = False
    inspect: bool = False
    bounds: Bounds = field(default_factory=Bounds)
    must_check: bool = False
    tight: bool = False
    presence: Presence = Presence.RENEW
    pace: Pace = field(default_factory=Pace)
    limits: Limits = field(default_factory=Limits)
    twins: SameBytes = SameBytes.KEEP
    unpack: Unpacking | None = None
    on_arrival: Command | None = None
    keep_times: bool = True
    one_process: bool = False
    strands: int | None = 1
