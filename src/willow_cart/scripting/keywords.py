"""What the functions take besides their sources: the options of the commands, typed.

Made from the option table by `make docs`; not to be edited.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from os import PathLike
from typing import Literal, TypedDict

from willow_cart.sign_in.secrets import Secret

Words = str | Sequence[str]
File = str | PathLike[str]
Files = File | Sequence[File]
Amount = int | float | str
Moment = str | date | datetime


class PatienceKeywords(TypedDict, total=False):
    """How often and how long to retry."""

    attempts: int
    pause: Amount
    longest_wait: Amount


class LookingKeywords(TypedDict, total=False):
    """How sources are listed."""

    depth: int | Literal["all"]
    within: str
    parts: Words
    pages: int | Literal["all"]
    next: str
    keep_folders: bool
    left_out: bool
    base: str
    most_listed: int
    ignore_robots: bool
    as_: Literal[
        "file",
        "page",
        "folder",
        "bucket",
        "feed",
        "sitemap",
        "list",
        "archive",
        "webdav",
        "catalogue",
    ]


class ChoosingKeywords(TypedDict, total=False):
    """The choosing options, as rules that say which offers are wanted."""

    numbers: int | str
    link_text: Words
    heading: Words
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
    media_type: Words
    within_time: str
    within_box: str
    undated: Literal["keep", "drop"]
    at_least: Amount
    at_most: Amount
    unsized: Literal["keep", "drop"]
    prefer: Words
    nth: str
    first: int
    ask_sizes: bool


class SignInKeywords(TypedDict, total=False):
    """The sign-in; secrets are referred to, never contained."""

    sign_in: str
    user: str
    password: str | Secret
    key: File
    passphrase: str | Secret
    token: str | Secret
    account_key: str | Secret
    shared_access: str | Secret
    header: Words
    cookies: File
    sign_in_at: str


class ConnectingKeywords(TypedDict, total=False):
    """How to connect to servers."""

    ca: File
    client_cert: File
    client_key: File
    host_key: Words
    endpoint: str
    profile: str
    ambient: bool
    requester_pays: bool
    largest_listing: Amount
    active: bool


class FilingKeywords(TypedDict, total=False):
    """Where files go below the destination."""

    layout: Literal["tree", "flat", "host", "kind", "month", "heading"]
    file_as: str
    skip_folders: int
    name_parts: str


class HandlingKeywords(TypedDict, total=False):
    """Options for fetching, checking and filing."""

    times: Literal["keep", "now"]
    checksums: Files
    find_checksums: bool
    must_check: bool
    inspect: bool
    accept_anything: bool
    if_present: Literal["renew", "keep", "replace", "fail"]
    twins: Literal["keep", "link", "skip"]
    even_if_full: bool
    start_over: bool
    note: str
    log: File
    on_arrival: str


class HaulUnpackingKeywords(TypedDict, total=False):
    """Which archives a haul unpacks, and how."""

    unpack: Words
    unpack_to: str
    inside: Words
    strip_top: bool
    nested: bool
    archives: Literal["keep", "remove"]
    unpacked_at_most: str
    archive_password: str | Secret


class PaceKeywords(TypedDict, total=False):
    """The pace of requests, and limits on time, speed and size."""

    lanes: int
    lanes_per_host: int
    strands: int | Literal["auto"]
    gap: Amount
    one_by_one: bool
    speed_cap: Amount
    stall_after: Amount
    slowest: Amount
    time_per_file: Amount
    largest: Amount
    attempts: int
    pause: Amount
    longest_wait: Amount


class KindKeywords(TypedDict, total=False):
    """What sources are."""

    as_: Literal[
        "file",
        "page",
        "folder",
        "bucket",
        "feed",
        "sitemap",
        "list",
        "archive",
        "webdav",
        "catalogue",
    ]


class UnpackingKeywords(TypedDict, total=False):
    """How archives are unpacked."""

    unpack_to: str
    inside: Words
    strip_top: bool
    nested: bool
    archives: Literal["keep", "remove"]
    unpacked_at_most: str
    archive_password: str | Secret


class SurveyKeywords(
    PatienceKeywords,
    LookingKeywords,
    ChoosingKeywords,
    SignInKeywords,
    ConnectingKeywords,
    total=False,
):
    """What `survey` and `load` understand."""

    lanes: int


class HaulKeywords(
    FilingKeywords,
    HandlingKeywords,
    HaulUnpackingKeywords,
    PaceKeywords,
    LookingKeywords,
    ChoosingKeywords,
    SignInKeywords,
    ConnectingKeywords,
    total=False,
):
    """What `haul` understands."""


class OfflineKeywords(
    ChoosingKeywords,
    PaceKeywords,
    SignInKeywords,
    ConnectingKeywords,
    total=False,
):
    """What `offline` understands."""

    depth: int | Literal["all"]
    stay: Literal["folder", "host"]
    also: Words
    parts: str
    ignore_robots: bool
    warc: File
    note: str


class KnockKeywords(KindKeywords, SignInKeywords, ConnectingKeywords, total=False):
    """What `knock` understands."""


class PeekKeywords(SignInKeywords, ConnectingKeywords, total=False):
    """What `peek` understands."""

    rows: int
    skip_lines: int


class PickKeywords(ChoosingKeywords, SignInKeywords, ConnectingKeywords, total=False):
    """What `pick` understands."""

    out: bool
    only: bool
    back: bool
    swap: bool
    undo: bool
    gone: bool


class WeighKeywords(SignInKeywords, ConnectingKeywords, total=False):
    """What `weigh` understands."""

    speed: Amount
    ask_sizes: bool
    drives: str
    shares: int
    figure: File
    left_out: bool


class UnpackKeywords(UnpackingKeywords, ChoosingKeywords, total=False):
    """What `unpack` understands."""

    name_parts: str


class CombineKeywords(ChoosingKeywords, total=False):
    """What `combine` understands."""

    to: File
    table: str
    start_over: bool
    strict: bool
    encoding: str
    mixed: bool
    day_first: bool
    thousands: Literal["comma", "point", "space", "apostrophe"]
    skip_lines: int
    columns: str
    sheet: str
    name_parts: str


class PackKeywords(ChoosingKeywords, total=False):
    """What `pack` understands."""


class AuditKeywords(SignInKeywords, ConnectingKeywords, total=False):
    """What `audit` understands."""

    quick: bool
    inspect: bool
    checksums: Files
    upstream: bool
    repair: bool
    local_files: bool
    threads: int
    lanes: int


class ReceiptKeywords(TypedDict, total=False):
    """What `receipt` understands."""

    run: int
    runs: bool
    of: str
    html: File
    manifest: Literal["sha256sums", "datapackage", "ro-crate", "markdown"]
    bag: File


class RefileKeywords(FilingKeywords, total=False):
    """What `refile` understands."""
