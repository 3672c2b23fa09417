"""`audit`: whether what lies in a folder is still what arrived."""

from __future__ import annotations

import shlex
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from willow_cart.addresses import scheme_of
from willow_cart.auditing import Audited, Finding, ask_upstream
from willow_cart.auditing import audit as audit_files
from willow_cart.checks import ListedChecksum
from willow_cart.exits import Exit
from willow_cart.hauling import HaulPolicy, HaulSummary, bring_home, put_rotten_aside
from willow_cart.jobs.connecting import make_access
from willow_cart.jobs.job_events import KeptAside, NotAsked
from willow_cart.jobs.job_observer import JobObserver
from willow_cart.model import Issue, Offer
from willow_cart.protocols import Access
from willow_cart.records import Arrival
from willow_cart.requests.audit import AuditRequest
from willow_cart.sources.checksum_lists import read_lists

# Worst first, as a person wants to read them.
_ORDER = (
    "changed", "broken", "missing", "gone", "newer", "moved", "untold", "unknown", "unchanged",
)  # fmt: skip

_HARMED = (Finding.CHANGED, Finding.MISSING)


@dataclass(frozen=True, slots=True)
class AuditedFolder:
    """What an audit has found.

    Attributes:
        folder: that was audited.
        found: every file, the worst first.
    """

    folder: Path
    found: Sequence[Audited]

    @property
    def counts(self) -> Counter[Finding]:
        """How many files there are of each finding."""
        return Counter(each.finding for each in self.found)

    @property
    def harmed(self) -> Sequence[Audited]:
        """What a repair would haul again."""
        return [each for each in self.found if each.finding in _HARMED]

    @property
    def exit_code(self) -> Exit:
        """What the shell is told."""
        return code_of(self.counts)


def audit(request: AuditRequest, observer: JobObserver) -> AuditedFolder:
    """Check what lies in a folder, and if wished for, whether its sources have changed.

    Raises:
        UnreadableLedger: there is neither a ledger nor a list.
        WillowCartError: an option cannot be understood, or a list cannot be read.
    """
    found = sorted(
        _find(request, observer), key=lambda each: (_ORDER.index(each.finding), each.path)
    )
    return AuditedFolder(request.folder, found)


def code_of(counts: Mapping[Finding, int]) -> Exit:
    """Return what the shell is told of what was found."""
    if counts[Finding.CHANGED] or counts[Finding.BROKEN]:
        return Exit.CHECK_FAILED
    bad = (Finding.MISSING, Finding.GONE, Finding.NEWER, Finding.MOVED, Finding.UNTOLD)
    return Exit.INCOMPLETE if any(counts[each] for each in bad) else Exit.GOOD


def _find(request: AuditRequest, observer: JobObserver) -> Iterator[Audited]:
    """Yield what was found at rest, and upstream of what is still as it was."""
    troubles: list[Issue] = []
    entries = _entries(request, observer)
    with observer.watch_reading() as reading:
        found = list(
            audit_files(
                request.folder,
                entries,
                quick=request.quick,
                inside=request.inspect,
                threads=request.threads,
                begin=reading.begin,
                read=reading.advance,
                troubles=troubles,
            )
        )
    observer.note_each(troubles)
    if not request.upstream:
        yield from found
        return
    unharmed = [
        each.arrival for each in found if each.arrival and each.finding is Finding.UNCHANGED
    ]
    yield from (each for each in found if each.finding is not Finding.UNCHANGED or not each.arrival)
    with _make_access(request, observer) as access:
        followed = list(_followed(request, unharmed, observer))
        yield from ask_upstream(followed, access, request.lanes)


def _followed(
    request: AuditRequest, arrivals: Iterable[Arrival | None], observer: JobObserver
) -> Iterator[Arrival]:
    """Yield the arrivals whose addresses may be asked; tell of those that may not.

    The ledger of a folder that was handed on may have been written by an attacker.
    """
    for arrival in arrivals:
        if arrival is None:
            continue
        if scheme_of(arrival.address) == "file" and not request.local_files:
            observer.note(NotAsked(arrival.path))
            continue
        yield arrival


def _entries(request: AuditRequest, observer: JobObserver) -> Sequence[ListedChecksum]:
    if not request.checksums:
        return ()
    with _make_access(request, observer) as access:
        entries, troubles = read_lists(request.checksums, access)
    observer.note_each(troubles)
    return entries


def _make_access(request: AuditRequest, observer: JobObserver) -> Access:
    """Return what talks to the places that files came from.

    None of them counts as named: what the person signs in with goes where --sign-in-at says.
    """
    return make_access([request], request.lanes, observer)


def repair(
    request: AuditRequest,
    audited: AuditedFolder,
    observer: JobObserver,
) -> HaulSummary:
    """Haul again what is not as it was; what lies there is kept aside first.

    Raises:
        WillowCartError: nothing can be filed there.
    """
    arrivals = (each.arrival for each in audited.harmed)
    lost = list(_followed(request, arrivals, observer))
    for path, kept in put_rotten_aside(request.folder, lost):
        observer.note(KeptAside(path, kept))
    with (
        _make_access(request, observer) as access,
        observer.watch_haul(request.folder, bars=False) as view,
    ):
        return bring_home(
            (Offer(arrival.address) for arrival in lost),
            request.folder,
            access,
            HaulPolicy(lanes=request.lanes, lanes_per_host=request.lanes),
            command=shlex.join(["willow-cart", "audit", str(request.folder), "--repair"]),
            observer=view,
        )
