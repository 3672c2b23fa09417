"""`offline`: pages with all that they need, to be read without a network."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.access.overhearing import Overhearing
from willow_cart.addresses import WEB, expand_ranges, normalise, scheme_of
from willow_cart.cli.bringing import make_view
from willow_cart.cli.connecting import make_access
from willow_cart.cli.looking import SizeAsker
from willow_cart.cli.running import shown_command, stoppable
from willow_cart.cli.screen import show_line
from willow_cart.cli.telling import summed_up, tell, tell_unknown
from willow_cart.errors import BadAddress, BadOption
from willow_cart.exits import Exit
from willow_cart.jobs.hauling_policies import make_pace, make_request_rules
from willow_cart.jobs.looking_policies import make_choosing, words_in
from willow_cart.jobs.offline import OfflineRequest
from willow_cart.offline import Out, Scope, Stay, make_readable, take
from willow_cart.offline.warc import WarcFile, require_warc_name
from willow_cart.replacing import replacing_bytes
from willow_cart.sources import Part
from willow_cart.units import count_of

if TYPE_CHECKING:
    from willow_cart.choosing import Choosing
    from willow_cart.cli.view import View
    from willow_cart.hauling import Observer
    from willow_cart.offline import Readings, Taken


# So many of what could not be had are told one by one.
_MOST_TOLD = 10


def run(request: OfflineRequest) -> int:
    """Take pages, make them readable, and account for it."""
    scope = _scope(request)
    choosing = _choosing(request)
    # A second process would not be overheard.
    wishes = replace(make_pace(request), one_process=request.warc is not None)
    if request.warc is not None:
        require_warc_name(request.warc)
    request = replace(request, sources=scope.pages)
    command = shown_command(request)
    with (
        _recorded(request.warc, command) as overhearing,
        make_access(
            [request],
            wishes.lanes_per_host,
            make_request_rules(request, wishes),
            overhearing=overhearing,
        ) as access,
        stoppable() as stop,
    ):
        taken = take(
            scope, request.into, access, wishes, choosing=choosing,
            learn=SizeAsker(access, wishes.lanes_per_host) if request.ask_sizes else None,
            ignore_robots=request.ignore_robots,
            command=command, note=request.note, watch=_watch(request.into), stop=stop,
        )  # fmt: skip
        made = make_readable(
            taken, request.into, when=f"{datetime.now().astimezone():%Y-%m-%d %H:%M}"
        )
    return _sum_up(request, taken, made)


def _scope(request: OfflineRequest) -> Scope:
    """What the options want taken.

    Raises:
        BadAddress: a page is no address.
        BadOption: an option cannot be understood.
    """
    pages = tuple(normalise(each) for page in request.pages for each in expand_ranges(page))
    for page in pages:
        if scheme_of(page) not in WEB:
            raise BadAddress(page, "is not on the web", "pages begin with https:// or http://")
    words = words_in([request.parts])
    known = [part for part in Part if part is not Part.LINKS]
    for word in words:
        if word not in known:
            raise BadOption(f"--parts {word}", "is no part", f"there are {', '.join(known)}")
    return Scope(pages, request.depth, Stay(request.stay), request.also, tuple(map(Part, words)))


# What is known of links on a page that is looked at, and not of addresses.
_OF_NO_USE = ("numbers", "link_text", "column", "nth")


def _choosing(request: OfflineRequest) -> Choosing:
    """Which links the options want followed.

    Raises:
        BadOption: a rule cannot be read, or is about what nobody knows here.
    """
    for name in _OF_NO_USE:
        if getattr(request, name):
            option = f"--{name.replace('_', '-')}"
            raise BadOption(option, "chooses nothing here", "choose by address: --keep, --drop")
    return make_choosing(request)


def _watch(into: Path) -> Callable[[], AbstractContextManager[Observer]]:

    def watch() -> View:
        view = make_view(into)
        view.tells_failures = False  # that is done at the end, with the pages that want them
        return view

    return watch


def _sum_up(request: OfflineRequest, taken: Taken, made: Readings | None) -> Exit:

    _tell_left(request, taken)
    for each in taken.missing[:_MOST_TOLD]:
        wanted = f", wanted by {each.wanted_by[0]}" if each.wanted_by else ""
        kept = "; an earlier version of it is here" if each.kept else ""
        tell(f"not to be had: {each.address}{wanted}: {each.why}{kept}")
    if (more := len(taken.missing) - _MOST_TOLD) > 0:
        tell(f"... and {more:,} more; the page to begin with lists them")
    sys.stdout.flush()
    show_line(summed_up(taken, request.into))
    if made is not None:
        _show_made(made)
    if taken.interrupted:
        copies = "" if made else "; the copies are as they were"
        tell(f"stopped before all was taken{copies}; the same command goes on from where it"
             " stopped")  # fmt: skip
    return taken.exit_code


def _show_made(made: Readings) -> None:

    for path in made.kept:
        tell(f"{path}: was made here and changed since; it stays, although it is no part any more")
    addresses = count_of(made.same, "address", "addresses")
    same = f", {addresses} the same as another" if made.same else ""
    removed = f", {made.removed:,} done away with" if made.removed else ""
    show_line(
        f"{count_of(made.pages, 'page')} and {count_of(made.files, 'other file')} to read{same};"
        f" {made.written:,} written{removed}; begin at {made.start}"
    )


def _tell_left(request: OfflineRequest, taken: Taken) -> None:
    """Say what was not taken, with the option that takes it."""
    tell_unknown(taken.choice)
    left = taken.left
    if deeper := left[Out.DEEPER]:
        levels = f"--depth {request.depth + 1} or --depth all" if request.depth else ""
        tell(f"{_links(deeper)} deeper ({levels} follows them)")
    for host, many in taken.hosts.items():
        needed = f"{count_of(many, 'file')} needed from {host}"
        tell(f"{needed} not taken (--also {host} takes such)")
    if away := left[Out.AWAY]:
        wider = " (--stay host follows those at the same host)" if request.stay == "folder" else ""
        tell(f"{_links(away)} elsewhere{wider}")
    if robots := left[Out.ROBOTS]:
        files = count_of(robots, "file")
        tell(f"{files} not taken, as robots.txt asks (--ignore-robots for your own servers)")
    if rule := left[Out.RULE]:
        tell(f"{count_of(rule, 'link')} not chosen")


def _links(count: int) -> str:

    return f"{count_of(count, 'link')} {'leads' if count == 1 else 'lead'}"


@contextmanager
def _recorded(path: Path | None, command: str) -> Iterator[Overhearing | None]:
    """What hears all exchanges and writes them into a file; nothing where none is wanted."""
    if path is None:
        yield None
        return

    with replacing_bytes(path) as file:
        yield Overhearing(WarcFile(file, path.name, command).write)
