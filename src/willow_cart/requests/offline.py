"""The request of `offline`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.options.hauling import PaceOptions
from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import depth
from willow_cart.requests.request import ReachingRequest


class OfflineRequest(ReachingRequest):
    """A request to copy pages."""

    command = "offline"

    pages: tuple[str, ...] = argument(
        (),
        str,
        "the page to start with; ranges such as {01..12} are allowed",
        metavar="ADDRESS",
        nargs="+",
    )
    into: Path = option(Path(), Path, "the folder to file into", metavar="DIR", required=True)
    depth: int | None = option(
        1,
        depth,
        "levels of links to follow; 1 is the page itself (%(default)s)",
        metavar="N|all",
    )
    stay: str = option(
        "folder",
        str,
        "follow links below the page's folder, or anywhere on its host (%(default)s)",
        choices=("folder", "host"),
    )
    also: tuple[str, ...] = option(
        (),
        str,
        "another host from which files that pages need may be fetched, or a wildcard pattern",
        metavar="HOST",
        many=True,
    )
    parts: str = option(
        "images,media,styles,scripts",
        str,
        "kinds of files to fetch with a page (%(default)s)",
        metavar="PART,...",
    )
    ignore_robots: bool = flag("also fetch what robots.txt disallows; for your own servers")
    warc: Path | None = option(
        None,
        Path,
        "also write the exact requests and responses as WARC (ISO 28500): FILE.warc or "
        "FILE.warc.gz",
        metavar="FILE",
    )
    note: str = option("", str, "a note to store in the ledger", metavar="TEXT")
    choosing: Choosing = Choosing()
    pace: PaceOptions = PaceOptions()
