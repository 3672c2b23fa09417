"""`audit`: check the files in a folder."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from willow_cart.addresses import scheme_of
from willow_cart.auditing import HARMED, Audited, Finding, Findings, ask_upstream
from willow_cart.auditing import audit as audit_files
from willow_cart.commands.connecting import make_access
from willow_cart.commands.request import ReachingRequest
from willow_cart.commands.result import CommandResult
from willow_cart.defaults import QUESTIONS
from willow_cart.destination import unportable
from willow_cart.errors import Exit
from willow_cart.events import KeptAside, NotAsked, NotPortable
from willow_cart.formats.checksums import ListedChecksum
from willow_cart.hauling.run import haul_offers
from willow_cart.hauling.summary import HaulSummary
from willow_cart.hauling.vanished import move_corrupt_aside
from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.model import Issue, Offer
from willow_cart.observer import Observer, watched
from willow_cart.options.groups import PaceOptions
from willow_cart.options.option import CSV, FOLDER, JSON, flag, option
from willow_cart.options.readers import few
from willow_cart.platform import processes
from willow_cart.protocols import Access
from willow_cart.sources.checksum_lists import read_lists
from willow_cart.structs import Value
from willow_cart.transfer.policy import HaulPolicy


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


class Audit(CommandResult):
    """The result of an audit.

    Attributes:
        folder: that was audited.
        found: every file, the worst first.
        repaired: the account of the files that were hauled again; None if nothing was.
    """

    columns = ("path", "finding", "why", "size", "url")

    folder: Path
    found: Findings
    repaired: HaulSummary | None = None

    @property
    def counts(self) -> Mapping[Finding, int]:
        """The number of files by finding."""
        return self.found.counts

    @property
    def harmed(self) -> Sequence[Audited]:
        """The files that a repair would haul again."""
        return [each for finding in HARMED for each in self.found.of(finding)]

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return code_of(self.counts) if self.repaired is None else self.repaired.exit_code

    @property
    def summary(self) -> str:
        """Return the number of files by finding."""
        return ", ".join(f"{self.counts[each]:,} {each}" for each in Finding if self.counts[each])

    def records(self) -> Iterator[Sequence[object]]:
        """Return a row per file; sizes are in bytes."""
        return (
            (each.path, str(each.finding), each.why, each.size, each.url) for each in self.found
        )

    def shown(self) -> tuple[Sequence[str], Iterable[Sequence[object]], int]:
        """Return the columns and rows that people see."""
        rows = ((each.finding, each.path, each.why) for each in self.found)
        return ("state", "path", "in what"), rows, len(self.found)

    def __repr__(self) -> str:
        return f"<Audit of {self.folder}: {self.summary}>"


def audit(request: AuditRequest, observer: Observer) -> Audit:
    """Check the files in a folder, and if requested, ask their servers for newer versions.

    Raises:
        UnreadableLedger: there is neither a ledger nor a list.
        WillowCartError: an option cannot be understood, or a list cannot be read.
    """
    troubles: list[Issue] = []
    entries = _entries(request, observer)
    found = Findings()
    with observer.watch_reading() as reading:
        for each in audit_files(
            request.folder,
            entries,
            quick=request.quick,
            inside=request.inspect,
            threads=request.threads,
            begin=reading.begin,
            read=reading.advance,
            troubles=troubles,
        ):
            found.add(each)
    observer.note_each(troubles)
    if request.upstream:
        _look_upstream(request, found, observer)
    if clashing := tuple(unportable(_PathsHere(found))):
        observer.note(NotPortable(clashing))
    return Audit(request.folder, found)


class _PathsHere(Value):
    """The paths of the files that are there; can be gone through repeatedly."""

    found: Findings

    def __iter__(self) -> Iterator[str]:
        return (each.path for each in self.found if each.finding is not Finding.MISSING)


def code_of(counts: Mapping[Finding, int]) -> Exit:
    """Return the exit code for the counts of an audit."""
    if counts[Finding.CHANGED] or counts[Finding.BROKEN]:
        return Exit.CHECK_FAILED
    bad = (Finding.MISSING, Finding.GONE, Finding.NEWER, Finding.MOVED, Finding.UNTOLD)
    return Exit.INCOMPLETE if any(counts[each] for each in bad) else Exit.GOOD


def _look_upstream(request: AuditRequest, found: Findings, observer: Observer) -> None:
    """Replace the findings of unchanged files by the answers of their servers."""
    if not has_ledger(request.folder):
        return
    with _make_access(request, observer) as access, Ledger(ledger_path(request.folder)) as ledger:
        unharmed = (ledger.latest_at(each.path) for each in found.of(Finding.UNCHANGED) if each.url)
        followed = _followed(request, unharmed, observer)
        asked = ask_upstream(followed, access, request.lanes)
        found.replace([each for each in asked if each.finding is not Finding.UNCHANGED])


def _followed(
    request: AuditRequest, arrivals: Iterable[Arrival | None], observer: Observer
) -> Iterator[Arrival]:
    """Yield the arrivals whose addresses may be requested; report the others.

    The ledger of a folder that was handed on may have been written by an attacker.
    """
    for arrival in arrivals:
        if arrival is None:
            continue
        if scheme_of(arrival.address) == "file" and not request.local_files:
            observer.note(NotAsked(arrival.path))
            continue
        yield arrival


def _entries(request: AuditRequest, observer: Observer) -> Sequence[ListedChecksum]:
    if not request.checksums:
        return ()
    with _make_access(request, observer) as access:
        entries, troubles = read_lists(request.checksums, access)
    observer.note_each(troubles)
    return entries


def _make_access(request: AuditRequest, observer: Observer) -> Access:
    """Return the access to the servers that files came from.

    None of them counts as named: what the user signs in with goes where --sign-in-at says.
    """
    return make_access([request], request.lanes, observer)


def repair(
    request: AuditRequest,
    audited: Audit,
    observer: Observer,
) -> HaulSummary:
    """Haul changed and missing files again, after moving changed ones aside.

    Raises:
        WillowCartError: nothing can be filed there.
    """
    arrivals = (each.arrival for each in audited.harmed)
    lost = list(_followed(request, arrivals, observer))
    for path, kept in move_corrupt_aside(request.folder, lost):
        observer.note(KeptAside(path, kept))
    with (
        _make_access(request, observer) as access,
        watched(observer, request.folder, bars=False) as (told, _),
    ):
        return haul_offers(
            map(_offer_of, lost),
            request.folder,
            access,
            HaulPolicy(pace=PaceOptions(lanes=request.lanes, lanes_per_host=request.lanes)),
            command=shlex.join(["willow-cart", "audit", str(request.folder), "--repair"]),
            observer=told,
        )


def _offer_of(arrival: Arrival) -> Offer:
    """Return a file as an offer that is filed where it was."""
    folder, _, name = arrival.path.rpartition("/")
    return Offer(arrival.address, name=name, folder=folder)
