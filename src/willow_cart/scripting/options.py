"""What the functions take besides their sources: the options of the commands, typed.

Made from the option table by `make docs`; not to be edited.
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


class SurveyOptions(TypedDict, total=False):
    """What `survey` and `load` understand."""

    lanes: int
    as_: Literal["file", "page", "folder", "bucket", "feed", "sitemap", "list", "archive"]
    depth: int | Literal["all"]
    within: str
    parts: Words
    pages: int
    next: str
    base: str
    most_listed: int
    ignore_robots: bool
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
    undated: Literal["keep", "drop"]
    at_least: Amount
    at_most: Amount
    unsized: Literal["keep", "drop"]
    prefer: Words
    nth: str
    first: int
    ask_sizes: bool
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
    attempts: int
    pause: Amount
    longest_wait: Amount


class HaulOptions(TypedDict, total=False):
    """What `haul` understands."""

    layout: Literal["tree", "flat", "host", "kind", "month", "heading"]
    file_as: str
    name_parts: str
    times: Literal["keep", "now"]
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
    unpack_to: str
    inside: Words
    lift: bool
    nested: bool
    then: Literal["keep", "remove"]
    swell_at_most: str
    archive_password: str
    unpack: Words
    as_: Literal["file", "page", "folder", "bucket", "feed", "sitemap", "list", "archive"]
    depth: int | Literal["all"]
    within: str
    parts: Words
    pages: int
    next: str
    base: str
    most_listed: int
    ignore_robots: bool
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
    undated: Literal["keep", "drop"]
    at_least: Amount
    at_most: Amount
    unsized: Literal["keep", "drop"]
    prefer: Words
    nth: str
    first: int
    ask_sizes: bool
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


class AuditOptions(TypedDict, total=False):
    """What `audit` understands."""

    quick: bool
    inspect: bool
    checksums: Files
    upstream: bool
    repair: bool
    local_files: bool
    threads: int
    lanes: int
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
