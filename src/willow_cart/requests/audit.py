"""The request of `audit`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.defaults import QUESTIONS
from willow_cart.options.option import flag, option
from willow_cart.options.readers import few
from willow_cart.options.shared import CSV, FOLDER, JSON
from willow_cart.platform import processes
from willow_cart.requests.request import ReachingRequest


class AuditRequest(ReachingRequest):
    """A request to check a folder."""

    command = "audit"

    quick: bool = flag("skip reading files whose size and date are unchanged")
    inspect: bool = flag(
        "open archives, images, tables and JSON, and report what is damaged inside"
    )
    checksums: tuple[str, ...] = option(
        (),
        str,
        "also verify files against a checksum list; the folder then needs no ledger",
        metavar="FILE|ADDRESS",
        many=True,
    )
    upstream: bool = flag("ask the servers whether they have newer versions; fetches none")
    repair: bool = flag(
        "haul changed and missing files again; changed files are kept under another name"
    )
    local_files: bool = flag(
        "allow --repair and --upstream to read local files that the ledger names; only for your "
        "own folders"
    )
    threads: int = option(
        processes.usable_processors(),
        few,
        "number of files that are read at a time (the number of processors)",
        metavar="N",
    )
    lanes: int = option(
        QUESTIONS, few, "number of files that are requested at a time (%(default)s)", metavar="N"
    )
    folder: Path = FOLDER
    json: bool = JSON
    csv: bool = CSV
