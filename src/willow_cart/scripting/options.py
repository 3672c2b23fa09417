"""The options of the commands as keywords, with their types; a test holds them to the parser.

Sizes are bytes or text with a unit (`"10MB"`), times seconds or text (`"5d"`), moments text or
`datetime`. An option that may be given several times takes one or a sequence of them. `as` is a
word of the language, so it is written `as_` here.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from os import PathLike
from typing import Literal, TypedDict

Words = str | Sequence[str]
File = str | PathLike[str]
Files = File | Sequence[File]
Amount = int | float | str
Moment = str | date | datetime
Unknown = Literal["keep", "drop"]


class LookingOptions(TypedDict, total=False):
    """How sources are looked at."""

    as_: str
    depth: int | Literal["all"]
    within: str
    parts: Words
    pages: int
    next: str
    base: str
    most_listed: int
    ignore_robots: bool


class ChoosingOptions(TypedDict, total=False):
    """Which offers are kept."""

    numbers: int | str
    link_text: Words
    column: int | str
    ext: Words
    kind: Words
    keep: Words
    drop: Words
    keep_re: Words
    drop_re: Words
    after_name: str
    since: Moment
    until: Moment
    undated: Unknown
    at_least: Amount
    at_most: Amount
    unsized: Unknown
    prefer: Words
    nth: str
    first: int
    ask_sizes: bool


class ReachingOptions(TypedDict, total=False):
    """How places are reached and let one in; no secret is among them, only where it is kept."""

    sign_in: str
    user: str
    password: str
    token: str
    account_key: str
    shared_access: str
    header: Words
    cookies: File
    sign_in_at: str
    ca: File
    client_cert: File
    client_key: File
    endpoint: str
    requester_pays: bool
    largest_listing: Amount
    active: bool


class SurveyOptions(LookingOptions, ChoosingOptions, ReachingOptions, total=False):
    """What `survey` and `load` understand."""

    lanes: int
    attempts: int
    pause: Amount
    longest_wait: Amount


class HaulOptions(SurveyOptions, total=False):
    """What `haul` understands."""

    layout: str
    file_as: str
    times: Literal["keep", "now"]
    name_parts: str
    checksums: Files
    find_checksums: bool
    must_check: bool
    inspect: bool
    accept_anything: bool
    if_present: Literal["renew", "keep", "replace", "fail"]
    twins: Literal["keep", "link", "skip"]
    tight: bool
    note: str
    log: File
    on_arrival: str
    unpack: Words
    unpack_to: str
    inside: Words
    lift: bool
    nested: bool
    then: Literal["keep", "remove"]
    swell_at_most: str
    archive_password: str
    lanes_per_host: int
    strands: int | Literal["auto"]
    gap: Amount
    one_by_one: bool
    speed_cap: Amount
    stall_after: Amount
    slowest: Amount
    time_per_file: Amount
    largest: Amount


class AuditOptions(ReachingOptions, total=False):
    """What `audit` understands."""

    quick: bool
    inspect: bool
    checksums: Files
    upstream: bool
    repair: bool
    local_files: bool
    threads: int
    lanes: int
