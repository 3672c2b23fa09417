"""Compare the files in a destination with its ledger and with checksum lists."""

from __future__ import annotations

import marshal
import os
import stat
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack
from enum import StrEnum
from functools import partial
from itertools import groupby, islice
from pathlib import Path

from willow_cart.checks.digests import digest_of
from willow_cart.checks.inspection import inspect
from willow_cart.destination import FileTree, LinkFound
from willow_cart.errors import NotServed, TransferFailed, UnreadableLedger, plainly
from willow_cart.formats.checksums import ChecksumBook, ListedChecksum
from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.model import OWN_FOLDER, Checksum, Issue, Metadata, Offer
from willow_cart.protocols import Access
from willow_cart.protocols.http.http_rules import contradict
from willow_cart.protocols.kept_answers import ManyQuestions
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value, astuple, force_setattr

# Files are passed to threads in batches, limited in bytes (as known to the ledger) and in
# files: passing one costs as much as reading a small file. A few batches wait for each thread.
_BATCH_BYTES = 1 << 20
_BATCH_FILES = 64
_BATCHES_AHEAD = 4


class Finding(StrEnum):
    """The result for one file; `unchanged` to `unknown` are local, the others about the server."""

    UNCHANGED = "unchanged"
    CHANGED = "changed"
    MISSING = "missing"
    BROKEN = "broken"
    """It is as it arrived, and was not sound inside even then."""
    UNKNOWN = "unknown"
    """It is there, and neither the ledger nor a list knows of it."""
    NEWER = "newer"
    """The server has another version."""
    GONE = "gone"
    """The server no longer has it."""
    MOVED = "moved"
    """The server has it at another address."""
    UNTOLD = "not stated"
    """The server does not state it."""


class Audited(Value):
    """The result of auditing one file.

    Attributes:
        path: below the destination, with `/` between the parts.
        finding: its state.
        why: the difference; empty where it does not.
        size: bytes that lie there.
        arrival: its ledger entry; None if it does not know it.
        url: the address that it came from, without secrets; empty if unknown.
    """

    path: str
    finding: Finding
    why: str = ""
    size: int = 0
    arrival: Arrival | None = None
    url: str = ""

    def __post_init__(self) -> None:
        if self.arrival is not None and not self.url:
            force_setattr(self, "url", self.arrival.address)


class _Known(Value):
    """A file that is expected in the destination.

    Attributes:
        path: where.
        promised: what its bytes must hash to.
        arrival: its ledger entry; None if only a list knows it.
    """

    path: str
    promised: tuple[Checksum, ...]
    arrival: Arrival | None = None


def audit(
    root: Path,
    entries: Sequence[ListedChecksum] = (),
    *,
    quick: bool = False,
    inside: bool = False,
    threads: int = 1,
    begin: Callable[[int], None] = lambda _: None,
    read: Callable[[int], None] = lambda _: None,
    troubles: list[Issue] | None = None,
) -> Iterator[Audited]:
    """Compare every file in a destination with its ledger and with checksum lists.

    Args:
        root: the destination, or with lists any folder.
        entries: of checksum lists.
        quick: whether a file of the size and date that it was filed with is believed unread.
        inside: whether files are opened to see whether they are sound.
        threads: how many files are read at a time.
        begin: called with the number of bytes in the ledger before any is read.
        read: called with the number of bytes read.
        troubles: gets what lists leave open.

    Yields:
        Every file that is known or is there, as soon as its state is known;
        unknown ones last.

    Raises:
        UnreadableLedger: there is neither a ledger nor a list.
    """
    if not root.is_dir():
        raise UnreadableLedger(str(root), "not a folder", "name one that was hauled into")
    with ExitStack() as stack:
        ledger = None
        if has_ledger(root) or not entries:
            ledger = stack.enter_context(Ledger(ledger_path(root)))
        tree = stack.enter_context(FileTree(root))
        examiner = _Examiner(tree, quick, inside, read)
        # A million files are never in memory; only lists need all paths at once.
        if entries:
            lying = [path for path, _ in tree.files(without=OWN_FOLDER)]
            recorded = [] if ledger is None else [*_known_to(ledger)]
            known = _with_promises(recorded, entries, lying, [] if troubles is None else troubles)
            begin(sum(map(_size_of, known)))
            known.sort(key=_size_of, reverse=True)
            yield from _examined(known, examiner, threads)
            is_expected: Callable[[str], bool] = {each.path for each in known}.__contains__
        else:
            assert ledger is not None, "there is one, or there are lists"
            begin(ledger.bytes_present())
            yield from _examined(_known_to(ledger), examiner, threads)
            is_expected = ledger.vouches_for
        if ledger is not None:
            yield from _twins_in(ledger, examiner)
        for path, status in tree.files(without=OWN_FOLDER):
            if not is_expected(path):
                yield Audited(path, Finding.UNKNOWN, "not from any haul", status.st_size)


def _examined(known: Iterable[_Known], examiner: _Examiner, threads: int) -> Iterator[Audited]:
    """Examine files in threads."""
    pool = ThreadPoolExecutor(threads)
    waiting: deque[Future[list[Audited]]] = deque()
    try:
        for batch in _batches(known):
            waiting.append(pool.submit(examiner.examine_all, batch))
            while len(waiting) >= threads * _BATCHES_AHEAD or (waiting and waiting[0].done()):
                yield from waiting.popleft().result()
        while waiting:
            yield from waiting.popleft().result()
    finally:
        pool.shutdown(cancel_futures=True)


def _twins_in(ledger: Ledger, examiner: _Examiner) -> Iterator[Audited]:
    """Examine the files whose content is the file at another path, which is read once."""
    for path, twins in groupby(ledger.twins(), key=lambda each: each.twin):
        found: dict[str, Audited] = {}
        for twin in twins:
            if twin.sha256 not in found:
                known = _Known(path, (Checksum("sha256", twin.sha256),), twin)
                found[twin.sha256] = examiner.examine(known)
            at = found[twin.sha256]
            why = f"its content is {path}: {at.why}" if at.why else ""
            yield Audited(twin.path, at.finding, why, 0, twin)


def _size_of(known: _Known) -> int:
    return known.arrival.size if known.arrival else 0


def _batches(known: Iterable[_Known]) -> Iterator[list[_Known]]:
    """Group files into batches, in order: several if they are small."""
    batch: list[_Known] = []
    size = 0
    for each in known:
        batch.append(each)
        size += _size_of(each)
        if size >= _BATCH_BYTES or len(batch) == _BATCH_FILES:
            yield batch
            batch, size = [], 0
    if batch:
        yield batch


def _known_to(ledger: Ledger) -> Iterator[_Known]:
    """Yield the files that the ledger records, the largest first.

    The last thread is not left alone with one.
    """
    for arrival in ledger.latest_arrivals("size DESC"):
        yield _Known(arrival.path, (Checksum("sha256", arrival.sha256),), arrival)
    for each in ledger.made():
        yield _Known(each.path, (Checksum("sha256", each.sha256),))


def _with_promises(
    known: Iterable[_Known],
    entries: Sequence[ListedChecksum],
    lying: Iterable[str],
    troubles: list[Issue],
) -> list[_Known]:
    """Return the expected files according to the ledger, to lists, or to both."""
    by_path = {each.path: each for each in known}
    paths = sorted({*by_path, *lying})
    offers = [Offer(f"file:///{path}", folder=_folder(path), name=_name(path)) for path in paths]
    promised, open_ones = ChecksumBook(entries).promise(offers)
    troubles += open_ones
    found = []
    meant: set[tuple[str, ...]] = set()
    for path, offer in zip(paths, promised, strict=True):
        before = by_path.get(path, _Known(path, ()))
        parts = tuple(path.split("/"))
        meant.update(parts[-count:] for count in range(1, len(parts) + 1))
        if offer.checksums or before.arrival:
            found.append(_Known(path, before.promised + offer.checksums, before.arrival))
    missing = [entry for entry in entries if entry.parts not in meant]
    return [*found, *(_Known("/".join(entry.parts), (entry.checksum,)) for entry in missing)]


def _folder(path: str) -> str:
    return path.rpartition("/")[0]


def _name(path: str) -> str:
    return path.rpartition("/")[2]


class _Examiner(Value):
    """Examines files.

    Attributes:
        tree: the destination.
        quick: whether a file of the size and date that it was filed with is believed unread.
        inside: whether files are opened to see whether they are sound.
        read: called with the number of bytes read.
    """

    tree: FileTree
    quick: bool
    inside: bool
    read: Callable[[int], None]

    def examine_all(self, batch: Iterable[_Known]) -> list[Audited]:
        """Examine several files."""
        return [self.examine(known) for known in batch]

    def examine(self, known: _Known) -> Audited:
        """Examine one file."""
        status = self.tree.status(known.path)
        if status is None:
            return Audited(known.path, Finding.MISSING, "not found", arrival=known.arrival)
        try:
            finding, why = self._compare(status, known)
            broken = ""
            if self.inside and finding is Finding.UNCHANGED:
                with self.tree.open(known.path) as file:
                    broken = inspect(file, _name(known.path))
        except LinkFound:
            finding, why = Finding.CHANGED, "is a link"
        except OSError as error:
            finding, why = Finding.CHANGED, f"it cannot be read: {plainly(error)}"
        else:
            if broken:
                finding, why = Finding.BROKEN, broken
        return Audited(known.path, finding, why, status.st_size, known.arrival)

    def _compare(self, status: os.stat_result, known: _Known) -> tuple[Finding, str]:
        """Compare an existing file with its record; return the finding and the reason."""
        arrival = known.arrival
        if not stat.S_ISREG(status.st_mode):
            is_link = stat.S_ISLNK(status.st_mode)
            return Finding.CHANGED, "is a link" if is_link else "not a regular file"
        if arrival is not None and status.st_size != arrival.size:
            return Finding.CHANGED, f"size is {status.st_size:,} bytes, was {arrival.size:,}"
        same_date = arrival is not None and status.st_mtime_ns == arrival.mtime_ns
        if self.quick and same_date and len(known.promised) == 1:
            return Finding.UNCHANGED, ""
        with self.tree.open(known.path) as file:
            measured = digest_of(file, {each.algorithm for each in known.promised}, self.read)
        for promised in known.promised:
            if measured[promised.algorithm] != promised:
                short = f"{measured[promised.algorithm].digest[:12]}..."
                was = f"{promised.digest[:12]}..."
                return Finding.CHANGED, f"{promised.algorithm} is {short}, was {was}"
        return Finding.UNCHANGED, ""


# RFC 9110, 15.5.5 and 15.5.11
_NO_MORE = (404, 410)


# As many files are asked for before the next are taken from the list.
_FILES_PER_LANE = 64


def ask_upstream(arrivals: Iterable[Arrival], access: Access, lanes: int) -> Iterator[Audited]:
    """Ask the server of each file whether it still has the version that arrived.

    Args:
        arrivals: their ledger entries.
        lanes: how many are asked at a time.

    Yields:
        The findings, in their order.
    """
    pool, questions = ThreadPoolExecutor(lanes), ManyQuestions(access)
    waiting = iter(arrivals)
    try:
        while some := list(islice(waiting, lanes * _FILES_PER_LANE)):
            yield from pool.map(partial(_ask, questions), some)
    finally:
        pool.shutdown(cancel_futures=True)


def _ask(questions: ManyQuestions, arrival: Arrival) -> Audited:
    def found(finding: Finding, why: str = "") -> Audited:
        return Audited(arrival.path, finding, why, arrival.size, arrival)

    try:
        facts = questions.ask(arrival.address)
    except NotServed as error:
        finding = Finding.GONE if error.status in _NO_MORE else Finding.UNTOLD
        return found(finding, error.reason)
    except TransferFailed as error:
        return found(Finding.UNTOLD, error.reason)
    if why := _difference(facts, arrival):
        return found(Finding.NEWER, why)
    there = without_secrets(facts.address)
    if there != arrival.final_address:
        return found(Finding.MOVED, f"it has moved to {there}")
    if not facts.validators and facts.length is None:
        return found(Finding.UNTOLD, "the server sends no version (ETag or Last-Modified)")
    return found(Finding.UNCHANGED)


def _difference(facts: Metadata, arrival: Arrival) -> str:
    """Return what shows that the server has another version; empty if nothing does."""
    if facts.length is not None and facts.length != arrival.size and not arrival.decoded:
        return f"size changed from {arrival.size:,} to {facts.length:,} bytes"
    if contradict(facts.validators, arrival.validators):
        if facts.validators.entity_tag != arrival.entity_tag:
            return f"ETag changed from {arrival.entity_tag} to {facts.validators.entity_tag}"
        return f"it was changed on {facts.validators.last_modified}"
    return ""


# Worst first, as a user wants to read them.
ORDER = (
    Finding.CHANGED, Finding.BROKEN, Finding.MISSING, Finding.GONE, Finding.NEWER, Finding.MOVED,
    Finding.UNTOLD, Finding.UNKNOWN, Finding.UNCHANGED,
)  # fmt: skip

HARMED = (Finding.CHANGED, Finding.MISSING)
"""The findings of files that a repair hauls again."""

_CACHE_KIB = 4 << 10


class Findings:
    """The findings, the worst first; a million take little memory.

    Of a file that is as it arrived, the ledger's entry is not kept.

    Attributes:
        counts: how many files there are by finding.
        size: bytes of all files.
    """

    def __init__(self) -> None:
        import sqlite3  # takes longer than to show a help page

        # A database without a name is private, and in a file only as far as it is large.
        self._base = sqlite3.connect("", isolation_level=None)
        self._base.execute(f"PRAGMA cache_size = -{_CACHE_KIB}")
        self._base.execute("PRAGMA journal_mode = OFF")
        self._base.execute(
            "CREATE TABLE found (rank INTEGER, path TEXT, why TEXT, size INTEGER, url TEXT,"
            " arrival BLOB, PRIMARY KEY (rank, path)) WITHOUT ROWID"
        )
        self._base.execute("BEGIN")
        self.counts: Counter[Finding] = Counter()
        self.size = 0

    def add(self, audited: Audited) -> None:
        """Add the finding of one file."""
        arrival = audited.arrival
        packed = None
        if arrival is not None and audited.finding in HARMED:
            packed = marshal.dumps(astuple(arrival))
        self._base.execute(
            "INSERT OR REPLACE INTO found VALUES (?, ?, ?, ?, ?, ?)",
            (ORDER.index(audited.finding), audited.path, audited.why, audited.size, audited.url,
             packed),
        )  # fmt: skip
        self.counts[audited.finding] += 1
        self.size += audited.size

    def replace(self, findings: Iterable[Audited]) -> None:
        """Replace the findings of unchanged files."""
        for audited in findings:
            self._base.execute(
                "DELETE FROM found WHERE (rank, path) = (?, ?)",
                (ORDER.index(Finding.UNCHANGED), audited.path),
            )
            self.counts[Finding.UNCHANGED] -= 1
            self.size -= audited.size
            self.add(audited)

    def __len__(self) -> int:
        return self.counts.total()

    def __iter__(self) -> Iterator[Audited]:
        return self._select(0, len(ORDER))

    def __getitem__(self, place: int) -> Audited:
        for audited in islice(self, place % max(1, len(self)), None):
            return audited
        raise IndexError(place)

    def of(self, finding: Finding) -> Iterator[Audited]:
        """Yield the files with a finding."""
        return self._select(ORDER.index(finding), ORDER.index(finding))

    def _select(self, first: int, last: int) -> Iterator[Audited]:
        rows = self._base.execute(
            "SELECT * FROM found WHERE rank BETWEEN ? AND ? ORDER BY rank, path", (first, last)
        )
        for rank, path, why, size, url, packed in rows:
            arrival = Arrival(*marshal.loads(packed)) if packed else None  # noqa: S302  # its own
            yield Audited(path, ORDER[rank], why, size, arrival, url)
