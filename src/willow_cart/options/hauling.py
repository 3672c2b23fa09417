"""Options for fetching, checking, filing and unpacking."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

from willow_cart.defaults import LANES, STALL_SECONDS
from willow_cart.options.option import flag, option, option_group
from willow_cart.options.reaching import PatienceOptions
from willow_cart.options.readers import few, seconds, size, speed, strands, whole


@option_group
class FilingOptions:
    """Where files go below the destination."""

    layout: str = option(
        "tree",
        str,
        "folders: as in the addresses, none, by host, by kind of file, by month of modification, "
        "or by heading on the page (%(default)s)",
        choices=("tree", "flat", "host", "kind", "month", "heading"),
        one_of="rule",
    )
    file_as: str | None = option(
        None,
        str,
        "the path of each file, such as {kind}/{modified:%%Y-%%m}/{name}; the guide lists the "
        "fields",
        metavar="TEMPLATE",
        one_of="rule",
    )
    skip_folders: int = option(0, whole, "leave out the first N folders of each path", metavar="N")
    name_parts: str = option(
        "",
        str,
        "defines fields for --file-as from parts of names: 'level_(?P<year>\\d{4})' defines {year}",
        metavar="REGEX",
    )


@option_group
class PaceOptions(PatienceOptions):
    """The pace of requests, and limits on time, speed and size."""

    group_title: ClassVar[str] = "pace"

    lanes: int = option(
        LANES,
        few,
        "number of files, or of strands of files, that are fetched at a time (%(default)s)",
        metavar="N",
    )
    lanes_per_host: int | None = option(
        None,
        few,
        "fixed number of lanes at one host (unless given: 4 at first, or the number of strands, "
        "and up to 16 while more are faster)",
        metavar="N",
    )
    strands: int | None = option(
        1,
        strands,
        "maximum number of lanes for one large file when lanes are free; auto adds lanes while "
        "the speed grows (%(default)s)",
        metavar="N|auto",
    )
    gap: float = option(0.0, seconds, "pause between two requests to one host", metavar="SECONDS")
    one_by_one: bool = flag("for sensitive servers: one file at a time, with a varying gap")
    speed_cap: int | None = option(None, speed, "limit the total speed: 2MB/s", metavar="SPEED")
    stall_after: float = option(
        STALL_SECONDS,
        seconds,
        "retry if no data arrives for this long (%(default)s)",
        metavar="SECONDS",
    )
    slowest: int | None = option(
        None, speed, "retry if the average speed is lower", metavar="SPEED"
    )
    time_per_file: float | None = option(
        None,
        seconds,
        "longest time for a file: 2h; what takes longer fails, and the next haul resumes it",
        metavar="SECONDS",
    )
    largest: int | None = option(
        None, size, "refuse larger files, whether or not their size is announced", metavar="SIZE"
    )


@option_group
class HandlingOptions:
    """What is fetched, and what happens to it."""

    times: str = option(
        "keep",
        str,
        "modification time of files: keep the server's, or use the time of arrival (%(default)s)",
        choices=("keep", "now"),
    )
    preview: bool = flag("show the resulting tree; fetches and writes nothing")
    checksums: tuple[str, ...] = option(
        (),
        str,
        "verify files against a checksum list, in GNU or BSD format",
        metavar="FILE|ADDRESS",
        many=True,
    )
    find_checksums: bool = flag(
        "look for checksum lists next to the files: SHA256SUMS, md5sums.txt, name.sha256, ..."
    )
    must_check: bool = flag(
        "refuse files without a checksum in the cart, in a list, or from the server"
    )
    inspect: bool = flag(
        "open archives, images, tables and JSON after arrival, and report what is damaged inside"
    )
    accept_anything: bool = flag("accept web pages in place of other files")
    if_present: str = option(
        "renew",
        str,
        "for files that exist already: ask the server whether they have changed, keep them "
        "without asking, fetch them again, or count them as failed (%(default)s)",
        choices=("renew", "keep", "replace", "fail"),
    )
    twins: str = option(
        "keep",
        str,
        "for files whose content exists under another name: file them as well, link both names "
        "to one file, or leave them out (%(default)s)",
        choices=("keep", "link", "skip"),
    )
    cart: Path | None = option(
        None, Path, "also write a cart of what is hauled, as load does", metavar="FILE"
    )
    tight: bool = flag("start even if there is not enough disk space for everything")
    begin_anew: bool = flag("start over in a folder that was hauled into before and is empty now")
    note: str = option("", str, "a note to store in the ledger", metavar="TEXT")
    detach: bool = flag("run in the background; see willow-cart runs")
    cluster: str | None = option(
        None,
        str,
        "fetch with the workers of a Dask cluster that shares the destination: tcp://HOST:8786, "
        "tls://HOST:8786, or the scheduler's file",
        metavar="SCHEDULER",
    )
    log: Path | None = option(None, Path, "write a log of events as JSON Lines", metavar="FILE")
    on_arrival: str | None = option(
        None,
        str,
        "run a command for each file that arrives, without a shell: 'check {path}'; the guide "
        "lists the fields",
        metavar="COMMAND",
    )


@option_group
class UnpackingOptions:
    """How archives are unpacked."""

    group_title: ClassVar[str] = "unpacking"

    unpack_to: str | None = option(
        None,
        str,
        "the folder for the content of each archive, with the fields of --file-as "
        "({folder}/{stem})",
        metavar="TEMPLATE",
    )
    inside: tuple[str, ...] = option(
        (),
        str,
        "unpack only files whose path in the archive matches a wildcard pattern, as for --keep",
        metavar="PATTERN",
        many=True,
    )
    lift: bool = flag("omit the top folder of an archive if everything is in one")
    nested: bool = flag("also unpack archives inside archives, one level deep")
    then: str = option(
        "keep",
        str,
        "keep or remove an archive after all of it was unpacked (%(default)s)",
        choices=("keep", "remove"),
    )
    swell_at_most: str | None = option(
        None,
        str,
        "maximum unpacked size of an archive: 200x its size, 50GB, or both with a comma (1000x, "
        "if that is more than 100 MB)",
        metavar="BOUND",
    )
    archive_password: str | None = option(
        None, str, "password of encrypted archives", metavar="env:NAME|file:PATH|keyring:NAME"
    )


@option_group
class UnpackedArchivesOption:
    """Which archives a haul unpacks."""

    group_title: ClassVar[str] = "unpacking"
    group_text: ClassVar[str] = "Archives are unpacked after everything has arrived."

    unpack: tuple[str, ...] = option(
        (),
        str,
        "unpack archives that match a wildcard pattern, as for --keep: '*.zip'",
        metavar="PATTERN",
        many=True,
    )
