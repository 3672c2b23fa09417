"""`offline`: copy pages to be read without a network."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path

from willow_cart.addresses import WEB, expand_ranges, normalise, scheme_of
from willow_cart.choosing import Choosing
from willow_cart.commands.connecting import make_access
from willow_cart.commands.finding import SizeAsker
from willow_cart.commands.request import ReachingRequest, shown_command
from willow_cart.commands.result import CommandResult, summed_up
from willow_cart.errors import BadAddress, BadOption, Exit
from willow_cart.observer import Observer
from willow_cart.offline_copies import Readings, Scope, Stay, TakenPages, make_readable, take
from willow_cart.offline_copies.taking import Missing
from willow_cart.offline_copies.warc import WarcFile, require_warc_name
from willow_cart.options.groups import PaceOptions
from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import depth, words_in
from willow_cart.protocols.recorder import ExchangeRecorder
from willow_cart.redaction import without_secrets
from willow_cart.replacing import replacing_bytes
from willow_cart.sources.listing import PagePart
from willow_cart.structs import replace
from willow_cart.transfer.policy import HaulPolicy


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


class OfflineResult(CommandResult):
    """The result of copying pages.

    Attributes:
        taken: the files that were served, and the failures.
        made: the copies that lead to each other; None where none were made.
    """

    columns = ("url", "path", "size", "sha256", "role")

    into: Path
    taken: TakenPages
    made: Readings | None

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.taken.exit_code

    @property
    def start(self) -> Path | None:
        """The start page; None if no copies were written."""
        return self.made.start if self.made else None

    @property
    def missing(self) -> list[Missing]:
        """The files that did not arrive, with the pages that need them."""
        return self.taken.missing

    @property
    def summary(self) -> str:
        """Return the counts by state, the bytes and the time."""
        return summed_up(self.taken, self.into)

    def records(self) -> Iterator[Sequence[object]]:
        """Return a row per file."""
        return (
            (each.address, each.path, each.size, each.sha256, str(self.taken.roles[address]))
            for address, each in self.taken.arrivals.items()
        )


def offline(request: OfflineRequest, observer: Observer) -> OfflineResult:
    """Fetch pages, and write the copies.

    Raises:
        WillowCartError: an option cannot be understood, or nothing can be filed there.
    """
    scope = _scope(request)
    choosing = _choosing(request)
    policy = HaulPolicy(pace=request.pace)
    if request.warc is not None:
        require_warc_name(request.warc)
    request = replace(request, sources=scope.pages)
    command = shown_command(request)
    lanes = request.pace.first_host_lanes
    with (
        _recorded(request.warc, command) as overhearing,
        make_access(
            [request], request.pace.most_host_lanes, observer, request.pace, overhearing=overhearing
        ) as access,
        observer.stoppable() as stop,
    ):
        taken = take(
            scope, request.into, access, policy, choosing=choosing,
            learn=SizeAsker(access, lanes, observer) if choosing.ask_sizes else None,
            ignore_robots=request.ignore_robots, command=command, note=request.note,
            observer=observer, stop=stop,
        )  # fmt: skip
        made = make_readable(
            taken, request.into, when=f"{datetime.now().astimezone():%Y-%m-%d %H:%M}"
        )
    return OfflineResult(request.into, taken, made)


def _scope(request: OfflineRequest) -> Scope:
    """Return the pages and files that the options include.

    Raises:
        BadAddress: a page is not a valid address.
        BadOption: an option cannot be understood.
    """
    pages = tuple(normalise(each) for page in request.pages for each in expand_ranges(page))
    for page in pages:
        if scheme_of(page) not in WEB:
            raise BadAddress(
                without_secrets(page), "not a web address", "pages begin with https:// or http://"
            )
    words = words_in([request.parts])
    known = [part for part in PagePart if part is not PagePart.LINKS]
    for word in words:
        if word not in known:
            raise BadOption(f"--parts {word}", "not a known part", f"there are {', '.join(known)}")
    return Scope(
        pages, request.depth, Stay(request.stay), request.also, tuple(map(PagePart, words))
    )


# What is known of links on a page that is looked at, and not of addresses.
_OF_NO_USE = ("numbers", "link_text", "heading", "column", "nth")


def _choosing(request: OfflineRequest) -> Choosing:
    """Return the rules for links to follow.

    Raises:
        BadOption: a rule cannot be read, or is about a fact that is not known here.
    """
    for name in _OF_NO_USE:
        if getattr(request.choosing, name):
            option = f"--{name.replace('_', '-')}"
            raise BadOption(option, "cannot be used here", "choose by address: --keep, --drop")
    return request.choosing


@contextmanager
def _recorded(path: Path | None, command: str) -> Iterator[ExchangeRecorder | None]:
    """Yield a recorder that writes all exchanges to a file; None without a file."""
    if path is None:
        yield None
        return
    with replacing_bytes(path) as file:
        yield ExchangeRecorder(WarcFile(file, path.name, command).write)
