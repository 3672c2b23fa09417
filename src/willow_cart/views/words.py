"""The messages for events, and who prints them line by line."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from functools import singledispatch
from pathlib import Path

from willow_cart.addresses import host_of
from willow_cart.destination.destination import Obstacle
from willow_cart.errors import ServerBusy
from willow_cart.events import (
    AwaitsAnswers,
    CartFilled,
    CartKept,
    ChangedHere,
    ClusterUsed,
    CodeWanted,
    ErrandWritten,
    Event,
    Freed,
    Handled,
    HostGivenUp,
    HostSuspended,
    KeptAside,
    LedgerConverted,
    ListFound,
    Looked,
    MayBeExpanded,
    MovedAside,
    NotAsked,
    Notice,
    NotPortable,
    NotPromised,
    OpenCluster,
    PassedOver,
    Planned,
    Postponed,
    Received,
    Requesting,
    Resuming,
    Settled,
    Started,
    SwitchedMirror,
    Unpacked,
    Unsure,
    Waits,
    WorkerLost,
    WorkerUnusable,
)
from willow_cart.ledger.entries import StepRecord
from willow_cart.observer import Observer, Throttle
from willow_cart.options.groups import Unknown
from willow_cart.progress import HaulProgress
from willow_cart.redaction import without_secrets
from willow_cart.sources.listing import Why
from willow_cart.units import count_of, format_duration, format_size

# Many come for each file, and none has a message.
_SILENT = frozenset({Requesting, Freed})

# Folders named in a message; the others are counted.
_MAX_NAMED_FOLDERS = 8

# Members named in messages about an archive, as above.
_MAX_NAMED_MEMBERS = 8

# Paths that are not for every system, as above.
_MAX_UNPORTABLE = 5


@singledispatch
def lines_of(event: object) -> Iterator[str]:
    """Yield the messages for an event; errors and issues speak for themselves."""
    yield str(event)


@lines_of.register
def _of_wait(event: Waits) -> Iterator[str]:
    error = event.error
    yield f"{error.thing}: {error.reason}; retrying in {format_duration(event.pause)}"


@lines_of.register
def _of_code(event: CodeWanted) -> Iterator[str]:
    if event.why:
        yield event.why
    yield f"to sign in, open {event.address} and enter the code {event.code}"


@lines_of.register
def _of_answers(event: AwaitsAnswers) -> Iterator[str]:
    more = f" and {len(event.waiting) - 1:,} more" if len(event.waiting) > 1 else ""
    verb = "has" if event.answered == 1 else "have"
    yield (
        f"{count_of(event.answered, 'address', 'addresses')} {verb} answered; waiting for"
        f" {event.waiting[0]}{more}"
    )


@lines_of.register
def _of_passed_over(event: PassedOver) -> Iterator[str]:
    yield f"{event.path}: ignored: {event.reason}"


@lines_of.register
def _of_open_cluster(event: OpenCluster) -> Iterator[str]:
    who = "other users of this machine" if event.is_here else "all who can reach it"
    yield (
        f"{event.scheduler}: {who} can run programs as you, here and on the workers; tls://"
        " prevents that (see the guide)"
    )


@lines_of.register
def _of_errand_written(event: ErrandWritten) -> Iterator[str]:
    yield f"written to {event.path}; willow-cart errand {event.path} --preview shows what it does"


@lines_of.register
def _of_cart_kept(event: CartKept) -> Iterator[str]:
    yield event.filled.summary


@lines_of.register
def _of_list_found(event: ListFound) -> Iterator[str]:
    yield (
        f"{event.place} has {count_of(event.checksums, 'checksum')}; it comes from the same server"
        " as the files, so it does not protect against changes there"
    )


@lines_of.register
def _of_not_promised(event: NotPromised) -> Iterator[str]:
    verb = "has" if event.bare == 1 else "have"
    yield f"{count_of(event.bare, 'file')} of {event.files:,} {verb} no checksum in the lists"


@lines_of.register
def _of_changed_here(event: ChangedHere) -> Iterator[str]:
    verb = "is" if event.files == 1 else "are"
    yield (
        f"{count_of(event.files, 'file')} {verb} changed since the haul, such as {event.example};"
        " run willow-cart audit for details"
    )


@lines_of.register
def _of_not_asked(event: NotAsked) -> Iterator[str]:
    yield f"{event.path}: came from a file of this machine; use --local-files to fetch it again"


@lines_of.register
def _of_not_portable(event: NotPortable) -> Iterator[str]:
    """Yield a line for each of the first paths, and how many there are besides."""
    for each in event.found[:_MAX_UNPORTABLE]:
        match each.obstacle:
            case Obstacle.CASE:
                yield (
                    f"{each.path}: on Windows and macOS the same path as {each.other};"
                    " rename one before it goes there"
                )
            case Obstacle.NAME:
                yield f"{each.path}: not a valid name on Windows; rename it before it goes there"
            case Obstacle.LENGTH:
                yield f"{each.path}: too long a path for Windows; shorten it before it goes there"
    if len(event.found) > _MAX_UNPORTABLE:
        more = len(event.found) - _MAX_UNPORTABLE
        yield f"{count_of(more, 'more path')} of that kind"


@lines_of.register
def _of_kept_aside(event: KeptAside) -> Iterator[str]:
    yield f"{event.path}: the existing file was moved to {event.kept}"


@lines_of.register
def _of_unsure(event: Unsure) -> Iterator[str]:
    """Yield how many offers a rule could not judge, what was done, and what else could be."""
    choice = event.choice
    for count, fact, option, done in (
        (choice.undated, "no date", "--undated", choice.undated_as),
        (choice.unsized, "no exact size", "--unsized", choice.unsized_as),
    ):
        if count:
            kept = done is Unknown.KEEP
            yield (
                f"{'kept' if kept else 'dropped'} {count_of(count, 'file')} with {fact}, which a"
                f" rule needs; --ask-sizes asks the servers, {option} {'drop' if kept else 'keep'}"
                f" {'drops' if kept else 'keeps'} such files"
            )
    if unnamed := event.choice.unnamed:
        yield (
            f"{count_of(unnamed, 'address', 'addresses')} left out by name say no kind of file;"
            " --ask-sizes asks the servers for their names"
        )


@lines_of.register
def _of_looking(event: Looked) -> Iterator[str]:
    """Yield what was not entered, and which offers rules could not judge."""
    found, depth = event.found, event.depth
    yield from found.notes
    if found.ended_by:
        yield f"the listing was read up to {found.ended_by}; there may be more files"
    ways = {
        Why.DEPTH: f"not entered (--depth {(depth or 0) + 1} or --depth all to enter)",
        Why.ROBOTS: "not entered, disallowed by robots.txt (--ignore-robots for your own servers)",
        Why.LOOP: "not entered because it leads back to an earlier folder",
        Why.DEEP: f"not entered, {Why.DEEP}",
        Why.MANY: "not entered because of the limit (--most-listed allows more)",
        Why.PAGES: f"not followed (--pages {event.pages + 1} or more to follow)",
    }
    for why, way in ways.items():
        paths = [each.path for each in found.not_entered if each.why is why]
        if paths:
            noun = "further page" if why is Why.PAGES else "folder"
            named = ", ".join(paths[:_MAX_NAMED_FOLDERS])
            more = (
                f", ... and {len(paths) - _MAX_NAMED_FOLDERS:,} more"
                if paths[_MAX_NAMED_FOLDERS:]
                else ""
            )
            yield f"{count_of(len(paths), noun)} {way}: {named}{more}"
    for part, count in event.unlisted.items():
        if count:
            shown = "image" if part == "images" else "sound or film"
            files = count_of(count, shown, "images" if part == "images" else "sounds and films")
            yield f"{files} on the page not listed (--parts links,{part})"
    yield from _of_unsure(Unsure(event.choice))


@lines_of.register
def _of_expanded(event: MayBeExpanded) -> Iterator[str]:
    yield (
        f"{event.option} {event.pattern}: is a file in this folder; if you typed a wildcard, put"
        f" quotes around it: {event.option} '*.csv'"
    )


@lines_of.register
def _of_cart(filled: CartFilled) -> Iterator[str]:
    """Yield problems with the offers in a cart."""
    loaded = filled.loaded
    if filled.bare and filled.form is not None:
        yield (
            f"{count_of(filled.bare, 'checksum')} left out: a {filled.form.name} cannot hold them"
        )
    yield from map(str, [*loaded.unread, *loaded.oddities])
    if loaded.secrets:
        holds = "address holds" if loaded.secrets == 1 else "addresses hold"
        yield (
            f"{loaded.secrets:,} {holds} a secret, which carts do not store; haul from the source"
            " itself, or use a sign-in"
        )
    if loaded.gone:
        yield f"{count_of(loaded.gone, 'file')} no longer offered; marked in the column gone"


@lines_of.register
def _of_other_events(_: Event) -> Iterator[str]:
    yield from ()


@lines_of.register
def _of_resuming(event: Resuming) -> Iterator[str]:
    when = f"{datetime.fromisoformat(event.begun):%Y-%m-%d %H:%M} UTC"
    yield f"the haul of {when} was interrupted; resuming"


@lines_of.register
def _of_plan(event: Planned) -> Iterator[str]:
    """Yield messages about the plan before anything is fetched."""
    plan = event.plan
    if twice := plan.offers.twice:
        yield f"{count_of(twice, 'address', 'addresses')} duplicated, fetched once"
    if example := plan.changed.example:
        yield (
            f"{count_of(plan.changed.files, 'name')} had characters that files cannot have (such as"
            f" : and ?) and {'was' if plan.changed.files == 1 else 'were'} changed:"
            f" {without_secrets(example.offer.address)} is filed as {example.path}"
        )
    for clash in plan.clashes:
        several = len(clash.given) > 1
        yield (
            f"{clash.wanted}: requested by {count_of(len(clash.given), 'address', 'addresses')}"
            f"{'' if several else ' and already in use'}; filed as "
            + " and ".join(filed.path for filed in clash.given)
        )
    if example := plan.staying.example:
        yield (
            f"{count_of(plan.staying.files, 'file')} from an earlier haul in another layout"
            f" stay in place, such as {example.path}"
        )


@lines_of.register
def _of_mirror(event: SwitchedMirror) -> Iterator[str]:
    yield f"{event.filed.path}: {event.why}; trying mirror {event.mirror}"


@lines_of.register
def _of_converted_ledger(event: LedgerConverted) -> Iterator[str]:
    yield (
        "the ledger is of an early version, which recorded only part of the addresses of"
        f" {count_of(event.files, 'file')}; a file that is offered again is fetched once more and"
        " compared"
    )


@lines_of.register
def _of_cluster(event: ClusterUsed) -> Iterator[str]:
    if event.dashboard:
        yield f"on the cluster {event.scheduler}; see the workers at {event.dashboard}"


@lines_of.register
def _of_unusable_worker(event: WorkerUnusable) -> Iterator[str]:
    yield f"worker {event.worker} {event.why}"


@lines_of.register
def _of_lost_worker(event: WorkerLost) -> Iterator[str]:
    yield f"worker {event.worker}: {event.why}; its files go on elsewhere"


@lines_of.register
def _of_suspended_host(event: HostSuspended) -> Iterator[str]:
    yield (
        f"{event.host} keeps failing ({event.error.reason}); retrying in"
        f" {format_duration(event.pause)} at the earliest"
    )


@lines_of.register
def _of_given_up_host(event: HostGivenUp) -> Iterator[str]:
    yield f"giving up on {event.host}, {count_of(event.files, 'file')} left: {event.why}"


@lines_of.register
def _of_moved_file(event: MovedAside) -> Iterator[str]:
    yield f"{event.path}: an existing file was moved to {event.kept}"


@lines_of.register
def _of_handled_file(event: Handled) -> Iterator[str]:
    if event.why:
        yield f"{event.path}: {event.why}"


@lines_of.register
def _of_unpacked(event: Unpacked) -> Iterator[str]:
    """Yield what was not unpacked from an archive."""
    path = event.path
    if event.failed:
        yield f"{path}: not unpacked: {event.failed}"
    for left_out in event.left_out[:_MAX_NAMED_MEMBERS]:
        yield f"{path}: left out {left_out.name}: {left_out.why}"
    if (more := len(event.left_out) - _MAX_NAMED_MEMBERS) > 0:
        yield f"{path}: left out {count_of(more, 'member')} more"
    if before := event.left_out_before:
        yield f"{path}: {count_of(before, 'member')} left out when it was unpacked"
    if gone := event.gone:
        yield (
            f"{path}: {count_of(len(gone), 'file')} of an earlier version no longer in it, such as"
            f" {gone[0]}, moved to .willow/aside"
        )


@lines_of.register
def _of_result(event: Settled) -> Iterator[str]:
    """Yield the problems with a file."""
    result = event.result
    if result.is_unsound:
        yield f"{result.path} arrived, but {result.reason}"
    if result.note:
        yield f"{result.path}: {result.note}"
    if event.is_failure:
        yield f"{result.state.label}: {result.address}: {result.reason}"


def step_line(step: StepRecord) -> str:
    """Return the account of a step of an errand."""
    told = ", ".join(f"{count:,} {name}" for name, count in step.counts.items())
    end = f"failed with exit code {step.exit_code}" if step.exit_code else told or "done"
    return f"step {step.number}: {step.command}: {end}"


_SECONDS_BETWEEN_LINES = 10.0

# In the background lines pile up over a night.
_SECONDS_BETWEEN_LINES_IN_BACKGROUND = 60.0

Say = Callable[[str], object]
"""Writes one line for good, or keeps it; several threads call it."""


class Reporter(Observer):
    """Prints the messages for events, and the progress of a haul now and then, or as bars.

    Args:
        say: writes a line.
        begun: called once it is known what a haul in the background is to do.
        shown: writes the lines while a haul is watched, where no bars are; None for `say`.
        every: seconds between two lines about progress; None for no such lines.
        draws: whether bars are drawn.
        clock: monotonic, in seconds.
    """

    def __init__(
        self,
        say: Say,
        begun: Callable[[], None] | None = None,
        *,
        shown: Say | None = None,
        every: float | None = _SECONDS_BETWEEN_LINES,
        draws: bool = False,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._say = say
        self._begun = begun
        self._shown = shown
        self._every = _SECONDS_BETWEEN_LINES_IN_BACKGROUND if begun else every
        self._draws = draws
        self._clock = clock
        self._waits = Throttle(clock)
        self._lock = threading.Lock()
        self._next_line: float | None = None
        self._progress = HaulProgress(clock)
        self._tells_failures = True

    def note(self, event: Notice) -> None:
        """Print the messages for an event."""
        kind = type(event)
        if kind in _SILENT or (kind is Received and self._next_line is None):
            return
        if isinstance(event, Started) and not event.start:
            return
        for line in self._lines_of(event):
            self._say(line)
        if isinstance(event, Planned) and self._begun is not None:
            self._begun()

    @contextmanager
    def watch(
        self, progress: HaulProgress, into: Path, *, bars: bool = True, failures: bool = True
    ) -> Iterator[None]:
        """Draw bars, or print a line now and then, while the context lasts."""
        self._progress, self._tells_failures = progress, failures
        self._waits = Throttle(self._clock)
        say = self._say
        try:
            if bars and self._draws:
                # Not imported where nothing is drawn: it takes longer than a small haul.
                from willow_cart.views.bars import LiveBars

                with LiveBars(progress, into) as drawn:
                    self._say = drawn.say_above
                    yield
                return
            if bars and self._shown is not None:
                self._say = self._shown
            self._next_line = None if self._every is None else self._clock() + self._every
            yield
        finally:
            self._say, self._next_line = say, None

    def _lines_of(self, event: Notice) -> Iterator[str]:
        match event:
            case Received():
                yield from self._progress_lines()
            case Started():
                if start := self._progress.lanes[event.lane].earlier:
                    path = event.filed.path
                    yield f"{path}: resuming at {format_size(start)} from an earlier haul"
            case Postponed():
                yield from self._wait_lines(event)
            case Settled() if event.is_failure and not self._tells_failures:
                pass
            case _:
                yield from lines_of(event)

    def _wait_lines(self, event: Postponed) -> Iterator[str]:
        """Yield why a file waits; of files that have not started, once per host and reason."""
        error, path = event.error, event.filed.path
        host, pause = host_of(event.filed.offer.address), format_duration(event.pause)
        if have := self._progress.carried(event.lane, path):
            yield f"{path}: {error.reason}; resuming at {format_size(have)} in {pause}"
        elif not self._waits.is_due((host, error.reason)):
            return
        elif isinstance(error, ServerBusy):
            yield f"{host} is busy ({error.reason}); slowing down, retrying in {pause}"
        else:
            yield f"{path}: {error.reason}; retrying in {pause}"

    def _progress_lines(self) -> Iterator[str]:
        if self._next_line is None or self._every is None:
            return
        now = self._clock()
        with self._lock:
            if now < self._next_line:
                return
            self._next_line = now + self._every
        far = self._progress.progress()
        left = f", {format_duration(far.left)} left" if far.left else ""
        yield (
            f"{far.files_done:,} of {count_of(far.files, 'file')}, {format_size(far.have)},"
            f" {format_size(int(far.speed))}/s{left}"
        )
