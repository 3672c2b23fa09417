"""`audit`: checking what lies in a folder."""

from __future__ import annotations

from dataclasses import dataclass

from willow_cart.options.option import flag, option
from willow_cart.options.readers import few, processors
from willow_cart.options.shared import FolderArgument, FormOptions
from willow_cart.requests.request import ReachingRequest


@dataclass(frozen=True, kw_only=True)
class AuditRequest(FolderArgument, FormOptions, ReachingRequest):
    """What `audit` is asked for."""

    command = "audit"

    quick: bool = flag("believe files that have the size and date with which they were filed")
    inspect: bool = flag("open archives, pictures, tables and JSON, and say what is broken inside")
    checksums: tuple[str, ...] = option(
        (),
        str,
        "hold files against a checksum list as well; then the folder needs no ledger",
        metavar="FILE|ADDRESS",
        many=True,
    )
    upstream: bool = flag(
        "ask the places that files came from whether they have newer ones; fetches none"
    )
    repair: bool = flag("haul again what has changed or is missing; what has changed is kept aside")
    local_files: bool = flag(
        "let --repair and --upstream read files of this machine that the ledger names; only for "
        "folders of your own"
    )
    threads: int = option(
        processors(),
        few,
        "how many files are read at a time (as many as there are processors)",
        metavar="N",
    )
    lanes: int = option(
        4, few, "how many are asked for or fetched at a time (%(default)s)", metavar="N"
    )
