"""`offline`: copy pages to be read without a network."""

from __future__ import annotations

import sys

from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_line, tell, tell_each
from willow_cart.commands.offline import OfflineRequest, OfflineResult, offline
from willow_cart.events import Unsure
from willow_cart.offline_copies import Out, Readings, TakenPages
from willow_cart.units import count_of
from willow_cart.views.words import lines_of

# Missing files printed one by one; the start page lists all.
_MAX_LISTED_FAILURES = 10


def run(request: OfflineRequest) -> int:
    """Fetch the pages, write the copies, and print a summary."""
    done = offline(request, Console())
    _sum_up(request, done)
    return done.exit_code


def _sum_up(request: OfflineRequest, done: OfflineResult) -> None:
    taken, made = done.taken, done.made
    _tell_left(request, taken)
    for each in taken.missing[:_MAX_LISTED_FAILURES]:
        wanted = f" (needed by {each.wanted_by[0]})" if each.wanted_by else ""
        kept = "; an earlier version is here" if each.kept else ""
        tell(f"could not fetch {each.address}{wanted}: {each.why}{kept}")
    if (more := len(taken.missing) - _MAX_LISTED_FAILURES) > 0:
        tell(f"... and {more:,} more; the start page lists them")
    sys.stdout.flush()
    show_line(done.summary)
    if made is not None:
        _show_made(made)
    if taken.interrupted:
        copies = "" if made else "; the copies were not changed"
        tell(f"stopped early{copies}; run the same command to resume")


def _show_made(made: Readings) -> None:
    for path in made.kept:
        tell(f"{path}: was edited, so it was kept although no page needs it")
    parts = [count_of(made.pages, "page"), count_of(made.files, "other file")]
    if made.same:
        parts.append(count_of(made.same, "duplicate address", "duplicate addresses"))
    removed = f", {made.removed:,} removed" if made.removed else ""
    written = f"{count_of(made.written, 'file')} written"
    if made.written > 1:
        written += ", the start page included"
    show_line(f"here: {', '.join(parts)}; {written}{removed}; start at {made.start}")


def _tell_left(request: OfflineRequest, taken: TakenPages) -> None:
    """Print the files that were not fetched, and the option that fetches them."""
    tell_each(lines_of(Unsure(taken.choice)))
    left = taken.left
    if deeper := left[Out.DEEPER]:
        levels = f"--depth {request.depth + 1} or --depth all" if request.depth else ""
        tell(f"{_links(deeper)} deeper ({levels} follows them)")
    for host, many in taken.hosts.items():
        needed = f"{count_of(many, 'file')} needed from {host}"
        tell(f"{needed} not fetched (--also {host} fetches them)")
    if away := left[Out.AWAY]:
        wider = " (--stay host follows those at the same host)" if request.stay == "folder" else ""
        tell(f"{_links(away)} elsewhere{wider}")
    if robots := left[Out.ROBOTS]:
        files = count_of(robots, "file")
        tell(f"{files} disallowed by robots.txt (--ignore-robots for your own servers)")
    if rule := left[Out.RULE]:
        tell(f"{count_of(rule, 'link')} not chosen")


def _links(count: int) -> str:
    return f"{count_of(count, 'link')} {'leads' if count == 1 else 'lead'}"
