"""`offline`: pages to be read without a network."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.hauling import PaceOptions
from willow_cart.options.looking import ChoosingOptions
from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import depth
from willow_cart.requests.request import ReachingRequest


@dataclass(frozen=True, kw_only=True)
class OfflineRequest(ChoosingOptions, ReachingRequest, PaceOptions):
    """What `offline` is asked for."""

    command = "offline"

    pages: tuple[str, ...] = argument(
        (), str, "the page to begin with; ranges as everywhere", metavar="ADDRESS", nargs="+"
    )
    into: Path = option(Path(), Path, "the folder to file into", metavar="DIR", required=True)
    depth: int | None = option(
        1,
        depth,
        "how many levels of links are followed; 1 is the page itself (%(default)s)",
        metavar="N|all",
    )
    stay: str = option(
        "folder",
        str,
        "follow links below the page's folder, or anywhere at its host (%(default)s)",
        choices=("folder", "host"),
    )
    also: tuple[str, ...] = option(
        (),
        str,
        "a host, or a wildcard pattern, from which what pages need may come too",
        metavar="HOST",
        many=True,
    )
    parts: str = option(
        "images,media,styles,scripts",
        str,
        "what is taken with a page (%(default)s)",
        metavar="PART,...",
    )
    ignore_robots: bool = flag(
        "take also what robots.txt asks programs not to; for your own servers"
    )
    warc: Path | None = option(
        None,
        Path,
        "write also the exact exchanges, as WARC (ISO 28500); use .warc or .warc.gz",
        metavar="FILE",
    )
    note: str = option("", str, "your own words about it, kept in the ledger", metavar="TEXT")
