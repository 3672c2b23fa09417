"""`audit`: whether what lies in a folder is still what arrived."""

from __future__ import annotations

import csv
import json
import shlex
import sys
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

from willow_cart.addresses import scheme_of
from willow_cart.auditing import Finding, ask_upstream, audit
from willow_cart.cart import cover
from willow_cart.cli.bringing import make_view
from willow_cart.cli.connecting import make_access
from willow_cart.cli.screen import show_line, show_table
from willow_cart.cli.telling import counted, is_heard, tell, tell_each
from willow_cart.exits import Exit
from willow_cart.hauling import Wishes, bring_home, put_rotten_aside
from willow_cart.jobs.audit import AuditRequest
from willow_cart.model import Offer, Trouble
from willow_cart.sources.checksum_lists import read_lists
from willow_cart.units import count_of, format_size

if TYPE_CHECKING:
    from collections.abc import Callable

    from willow_cart.access import Access
    from willow_cart.auditing import Audited
    from willow_cart.checks import Entry
    from willow_cart.hauling import Account
    from willow_cart.records import Arrival


# Worst first, as a person wants to read them.
_ORDER = (
    "changed", "broken", "missing", "gone", "newer", "moved", "untold", "unknown", "unchanged",
)  # fmt: skip


def run(request: AuditRequest) -> int:
    """Audit, show what was found, and repair it if that is wished for."""
    found = find(request)
    if request.json:
        print(json.dumps([_facts(each) for each in found], ensure_ascii=False, indent=2))
    elif request.csv:
        writer = csv.DictWriter(sys.stdout, ("path", "finding", "why", "size", "url"))
        writer.writeheader()
        writer.writerows(map(_covered, found))
    else:
        _show(found)
    counts = Counter(each.finding for each in found)
    if request.repair and (counts[Finding.CHANGED] or counts[Finding.MISSING]):
        account = repair(request, found)
        print(counted(account.planned, account.counts), flush=True)
        return account.exit_code
    return code_of(counts)


def find(request: AuditRequest) -> list[Audited]:
    """What there is to find, the worst first."""
    return sorted(_audit(request), key=lambda each: (_ORDER.index(each.finding), each.path))


def code_of(counts: Mapping[Finding, int]) -> Exit:
    """What the shell is told of what was found."""
    if counts[Finding.CHANGED] or counts[Finding.BROKEN]:
        return Exit.CHECK_FAILED
    bad = (Finding.MISSING, Finding.GONE, Finding.NEWER, Finding.MOVED, Finding.UNTOLD)
    return Exit.INCOMPLETE if any(counts[each] for each in bad) else Exit.GOOD


def _audit(request: AuditRequest) -> Iterator[Audited]:
    """What was found at rest, and upstream of what is still as it was."""
    troubles: list[Trouble] = []
    entries = _entries(request)
    with _bar() as (begin, read):
        found = list(
            audit(
                request.folder,
                entries,
                quick=request.quick,
                inside=request.inspect,
                threads=request.threads,
                begin=begin,
                read=read,
                troubles=troubles,
            )
        )
    tell_each(troubles)
    if not request.upstream:
        yield from found
        return
    unharmed = [
        each.arrival for each in found if each.arrival and each.finding is Finding.UNCHANGED
    ]
    yield from (each for each in found if each.finding is not Finding.UNCHANGED or not each.arrival)
    with _access(request) as access:
        yield from ask_upstream(list(_followed(request, unharmed)), access, request.lanes)


def _followed(request: AuditRequest, arrivals: Iterable[Arrival | None]) -> Iterator[Arrival]:
    """Yield the arrivals whose addresses may be asked; tell of those that may not.

    A ledger may have been written by whoever handed the folder on.
    """
    for arrival in arrivals:
        if arrival is None:
            continue
        if scheme_of(arrival.address) == "file" and not request.local_files:
            tell(
                f"{arrival.path}: came from a file of this machine; --local-files fetches such"
                " files again"
            )
            continue
        yield arrival


def _entries(request: AuditRequest) -> Sequence[Entry]:

    if not request.checksums:
        return ()
    with _access(request) as access:
        entries, troubles = read_lists(request.checksums, access)
    tell_each(troubles)
    return entries


def _access(request: AuditRequest) -> Access:
    """Return what talks to the places that files came from.

    None of them counts as named: what the person signs in with goes where --sign-in-at says.
    """
    return make_access([request], request.lanes)


@contextmanager
def _bar() -> Iterator[tuple[Callable[[int], None], Callable[[int], None]]]:
    """A bar of what is read, on a terminal: what is told the total, and what each advance."""
    if is_heard() or not sys.stderr.isatty():
        yield (lambda _: None), (lambda _: None)
        return
    from rich.console import Console
    from rich.progress import (
        BarColumn,
        DownloadColumn,
        Progress,
        TextColumn,
        TimeRemainingColumn,
        TransferSpeedColumn,
    )

    columns = (TextColumn("reading"), BarColumn(), DownloadColumn(), TransferSpeedColumn(),
               TimeRemainingColumn())  # fmt: skip
    with Progress(*columns, console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task("reading", total=None)

        def begin(total: int) -> None:
            progress.update(task, total=total or None)

        yield begin, lambda count: progress.advance(task, count)


def _facts(each: Audited) -> dict[str, object]:
    return {
        "path": each.path,
        "finding": str(each.finding),
        "why": each.why,
        "size": each.size,
        "url": each.arrival.address if each.arrival else "",
    }


def _covered(each: Audited) -> dict[str, object]:

    return {name: cover(str(value)) for name, value in _facts(each).items()}


def _show(found: Sequence[Audited]) -> None:

    rows = [
        (str(each.finding), each.path, format_size(each.size) if each.size else "", each.why)
        for each in found
        if each.finding is not Finding.UNCHANGED
    ]
    if rows:
        show_table(("state", "path", "size", "in what"), rows, numeric=("size",))
    counts = Counter(each.finding for each in found)
    named = ", ".join(f"{counts[each]:,} {each}" for each in Finding if _is_told(each, counts))
    size = format_size(sum(each.size for each in found))
    show_line(f"{count_of(len(found), 'file')}, {size}: {named}")


def _is_told(finding: Finding, counts: Counter[Finding]) -> bool:
    """Whether a count is told: those at rest always, those upstream if there are any."""
    return finding in ("unchanged", "changed", "missing", "unknown") or bool(counts[finding])


def repair(request: AuditRequest, found: Sequence[Audited]) -> Account:
    """Haul again what is not as it was; what lies there is kept aside first."""
    harmed = (Finding.CHANGED, Finding.MISSING)
    lost = list(_followed(request, (each.arrival for each in found if each.finding in harmed)))
    for path, kept in put_rotten_aside(request.folder, lost):
        tell(f"{path}: what lay there is kept in {kept}")
    with _access(request) as access, make_view(request.folder, progress=False) as view:
        return bring_home(
            (Offer(arrival.address) for arrival in lost),
            request.folder,
            access,
            Wishes(lanes=request.lanes, lanes_per_host=request.lanes),
            command=shlex.join(["willow-cart", "audit", str(request.folder), "--repair"]),
            observer=view,
        )
