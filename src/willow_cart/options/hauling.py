"""Options that say how files are fetched, checked, filed and unpacked."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

from willow_cart.options.option import flag, option, option_group
from willow_cart.options.reaching import PatienceOptions
from willow_cart.options.readers import few, seconds, size, speed, strands


@option_group
class FilingOptions:
    """Where files go below the destination."""

    layout: str = option(
        "tree",
        str,
        "folders: as in the addresses, none, by host, by kind of file, by month of the last "
        "change, or by heading on the page (%(default)s)",
        choices=("tree", "flat", "host", "kind", "month", "heading"),
        one_of="rule",
    )
    file_as: str | None = option(
        None,
        str,
        "the path of each file, such as {kind}/{modified:%%Y-%%m}/{name}; the guide has the fields",
        metavar="TEMPLATE",
        one_of="rule",
    )
    name_parts: str = option(
        "",
        str,
        "cuts parts out of names for --file-as: 'level_(?P<year>\\d{4})' gives it {year}",
        metavar="REGEX",
    )


@option_group
class PaceOptions(PatienceOptions):
    """How politely, patiently and warily files are fetched."""

    group_title: ClassVar[str] = "pace"

    lanes: int = option(
        8,
        few,
        "how many files, or strands of files, are fetched at a time (%(default)s)",
        metavar="N",
    )
    lanes_per_host: int | None = option(
        None,
        few,
        "how many of them from one host (4, or as many as there are strands)",
        metavar="N",
    )
    strands: int | None = option(
        1,
        strands,
        "on how many lanes, at most, one large file is fetched when lanes have nothing else to "
        "do; auto takes more while that pays (%(default)s)",
        metavar="N|auto",
    )
    gap: float = option(0.0, seconds, "between two starts at one host", metavar="SECONDS")
    one_by_one: bool = flag(
        "for shy servers: one file at a time, with a gap that is never quite the same"
    )
    speed_cap: int | None = option(
        None, speed, "no faster than this in all: 2MB/s", metavar="SPEED"
    )
    stall_after: float = option(
        60, seconds, "try again if nothing comes for so long (%(default)s)", metavar="SECONDS"
    )
    slowest: int | None = option(
        None, speed, "try again what comes more slowly on the average", metavar="SPEED"
    )
    time_per_file: float | None = option(
        None,
        seconds,
        "no longer than this for one attempt at a file: 2h; what has come is kept",
        metavar="SECONDS",
    )
    largest: int | None = option(
        None, size, "refuse files that are larger, announced or not", metavar="SIZE"
    )


@option_group
class HandlingOptions:
    """What is fetched, and what becomes of it."""

    times: str = option(
        "keep",
        str,
        "give files the time at which they were changed last at their places, or leave them the "
        "time of their arrival (%(default)s)",
        choices=("keep", "now"),
    )
    preview: bool = flag("show the tree that the folder would get; fetches and writes nothing")
    checksums: tuple[str, ...] = option(
        (),
        str,
        "a checksum list to hold what comes against, in GNU or BSD style",
        metavar="FILE|ADDRESS",
        many=True,
    )
    find_checksums: bool = flag(
        "look for checksum lists beside the files: SHA256SUMS, md5sums.txt, name.sha256, ..."
    )
    must_check: bool = flag(
        "refuse what no checksum proves: none in the cart, in a list, or from its place"
    )
    inspect: bool = flag(
        "open archives, pictures, tables and JSON that arrive, and say what is broken inside"
    )
    accept_anything: bool = flag("file also pages that come where something else was asked for")
    if_present: str = option(
        "renew",
        str,
        "of files that lie here already: ask whether they have changed, leave them unasked, "
        "fetch them anew, or count them as failed (%(default)s)",
        choices=("renew", "keep", "replace", "fail"),
    )
    twins: str = option(
        "keep",
        str,
        "of files whose bytes lie here under another name already: file them as well, have both "
        "names lead to one file, or leave them out (%(default)s)",
        choices=("keep", "link", "skip"),
    )
    cart: Path | None = option(
        None, Path, "leave a cart of what is hauled behind, as load writes it", metavar="FILE"
    )
    tight: bool = flag("begin also where there is not enough room for everything")
    note: str = option("", str, "your own words about it, kept in the ledger", metavar="TEXT")
    detach: bool = flag(
        "hand the terminal back and go on in the background; willow-cart runs sees to it"
    )
    log: Path | None = option(
        None, Path, "write what happens as JSON lines, one event each", metavar="FILE"
    )
    on_arrival: str | None = option(
        None,
        str,
        "run a command for every file that arrives, without a shell: 'check {path}'; the guide "
        "has the fields",
        metavar="COMMAND",
    )


@option_group
class UnpackingOptions:
    """How archives are unpacked, by hauls and where they lie."""

    group_title: ClassVar[str] = "unpacking"

    unpack_to: str | None = option(
        None,
        str,
        "the folder for what is in each archive, by the fields of --file-as ({folder}/{stem})",
        metavar="TEMPLATE",
    )
    inside: tuple[str, ...] = option(
        (),
        str,
        "take only what matches a wildcard pattern, as for --keep, by its path in the archive",
        metavar="PATTERN",
        many=True,
    )
    lift: bool = flag("leave out the folder that everything in an archive is in, if there is one")
    nested: bool = flag("unpack archives in archives too, once")
    then: str = option(
        "keep",
        str,
        "what becomes of an archive of which all was taken (%(default)s)",
        choices=("keep", "remove"),
    )
    swell_at_most: str | None = option(
        None,
        str,
        "how much may come out of one: 200x its size, 50GB, or both with a comma (1000x, where "
        "that is more than 100 MB)",
        metavar="BOUND",
    )
    archive_password: str | None = option(
        None, str, "the password of encrypted archives", metavar="env:NAME|file:PATH"
    )


@option_group
class UnpackedArchivesOption:
    """Which archives a haul unpacks."""

    group_title: ClassVar[str] = "unpacking"
    group_text: ClassVar[str] = "Archives are unpacked once everything has come."

    unpack: tuple[str, ...] = option(
        (),
        str,
        "unpack archives that match a wildcard pattern, as for --keep: '*.zip'",
        metavar="PATTERN",
        many=True,
    )
