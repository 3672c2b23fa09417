"""Receipts: the account of one haul, read from the ledger."""

from __future__ import annotations

import sqlite3
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path

from willow_cart.addresses import is_inside, normalise
from willow_cart.errors import BadAddress, UnreadableLedger
from willow_cart.identity import address_id
from willow_cart.ledger.entries import Arrival, StepRecord
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.timeline import Timeline
from willow_cart.ledger.validation import Altered, require_result, require_run
from willow_cart.model import State
from willow_cart.structs import Value, asdict


class ReceiptRow(Value):
    """One file of a haul; `size` to `verdict` describe the file that exists, if any."""

    number: int
    state: str
    path: str
    address: str
    final_address: str | None
    arrived: str | None
    size: int | None
    sha256: str | None
    entity_tag: str | None
    last_modified: str | None
    expected: str | None
    verdict: str | None
    decoded: str | None
    received: int
    resumed: int
    attempts: int
    seconds: float
    reason: str
    note: str = ""
    worker: str = ""


class WorkerShare(Value):
    """The share of a cluster's worker in a haul.

    Attributes:
        worker: its name.
        files: how many it had last.
        received: bytes that came for them.
        seconds: that it spent on them, several at a time counted several times.
    """

    worker: str
    files: int
    received: int
    seconds: float


class RunHead(Value):
    """The facts about a haul as a whole.

    Attributes:
        run: its number in this destination, from 1.
        command: as typed, without secrets.
        started, ended: ISO 8601, UTC; `ended` is None for a run that was killed.
        exit_code: None as above.
        note: the user's note.
        software: what did it, with its version; empty for a ledger of the first version.
    """

    run: int
    command: str
    started: str
    ended: str | None
    exit_code: int | None
    note: str
    software: str


class RunSummary(RunHead):
    """A summary of one haul.

    Attributes:
        counts: how many files there are in each state.
        received: bytes that came over the line.
        unpacked: how many files came out of archives.
    """

    counts: Mapping[State, int]
    received: int
    unpacked: int


class Chapter(Value):
    """The result of one file in one haul.

    Attributes:
        run: the haul's number.
        started: when that began, in UTC, ISO 8601.
        row: what became of it.
    """

    run: int
    started: str
    row: ReceiptRow


class Receipt(RunSummary):
    """The account of one haul.

    Attributes:
        rows: what became of each file, in the order of the haul.
    """

    rows: list[ReceiptRow]


class OpenReceipt:
    """The account of one haul, read on demand.

    Attributes:
        summary: the haul in a line.
    """

    def __init__(self, ledger: Ledger, summary: RunSummary) -> None:
        self.summary = summary
        self._ledger = ledger

    @property
    def files(self) -> int:
        """Return the number of files."""
        return sum(self.summary.counts.values())

    @property
    def timeline(self) -> Timeline:
        """Return the timeline; empty if the haul was killed at once or by an earlier version."""
        (run,) = self._ledger.rows("SELECT timeline FROM run WHERE id = ?", self.summary.run)
        try:
            return Timeline.from_text(str(run["timeline"]))
        except ValueError as error:
            raise self._ledger.altered(f"the timeline of a run: {error}") from None

    def rows(self) -> Iterator[ReceiptRow]:
        """Yield the result of each file, in order."""
        return self._select("")

    def troubles(self, most: int) -> Iterator[ReceiptRow]:
        """Yield up to this many files that failed, were refused, or are damaged."""
        return self._select("AND reason != ''", most)

    def foremost(self, most: int) -> Iterator[ReceiptRow]:
        """Yield up to this many files, those with problems first.

        If there are more, those with trouble come first.

        A million lines are not read; problems must not be among those left out.
        """
        if self.files <= most:
            yield from self.rows()
            return
        troubles = [*self.troubles(most)]
        yield from troubles
        yield from self._select("AND reason = ''", most - len(troubles))

    @property
    def workers(self) -> list[WorkerShare]:
        """Return what the workers of a cluster carried, by their names; empty without one."""
        rows = self._ledger.rows(
            "SELECT worker, count(*), sum(received), sum(seconds) FROM result"
            " WHERE run = ? AND worker != '' GROUP BY worker",
            self.summary.run,
        )
        return [WorkerShare(str(row[0]), int(row[1]), int(row[2]), float(row[3])) for row in rows]

    @property
    def steps(self) -> list[StepRecord]:
        """Return the steps of the errand that followed the haul; empty for none."""
        return self._ledger.steps_of(self.summary.run)

    def unpacked(self) -> Iterator[Arrival]:
        """Yield the files that came out of archives."""
        return self._ledger.unpacked_in(self.summary.run)

    def _select(self, condition: str, most: int = -1) -> Iterator[ReceiptRow]:
        statement = f"SELECT {_ROW} WHERE result.run = ? {condition} ORDER BY number LIMIT ?"
        for row in self._ledger.each_row(statement, self.summary.run, most):
            yield _read_row(self._ledger, row)


_HEAD = "id AS run, command, started, ended, exit_code, note, software"

_ROW = (
    "number, state, result.path, result.address, final_address, time, size, sha256, entity_tag,"
    " last_modified, expected, verdict, decoded, received, resumed, attempts, seconds, reason,"
    " result.note, worker"
    " FROM result LEFT JOIN arrival ON arrival.id = result.arrival"
)

_STORY = (
    "SELECT result.run, (SELECT started FROM run WHERE id = result.run) AS started,"
    f" {_ROW} WHERE (result.key, result.address) = (?1, ?2) ORDER BY result.run"
)

# A file that was unpacked has no result of its own, unless it came by itself.
_STORY_INSIDE = (
    f"SELECT * FROM ({_STORY}) UNION ALL SELECT run, (SELECT started FROM run WHERE id = run),"
    " 0, 'unpacked', path, address, final_address, time, size, sha256, entity_tag, last_modified,"
    " expected, verdict, decoded, 0, 0, 0, 0.0, '', '', ''"
    " FROM arrival WHERE (key, address) = (?1, ?2) AND archive != '' ORDER BY 1"
)


def _read_row(ledger: Ledger, row: sqlite3.Row, first: int = 0) -> ReceiptRow:
    """Convert a row of a query to a row of a receipt.

    Raises:
        UnreadableLedger: it was altered.
    """
    try:
        require_result(row)
    except Altered as error:
        raise ledger.altered(str(error)) from None
    return ReceiptRow(*row[first:])


@contextmanager
def open_receipt(destination: Path, run: int | None = None) -> Iterator[OpenReceipt]:
    """Open the receipt of a run, by default of the last one.

    Raises:
        UnreadableLedger: no ledger, or no such run in it.
    """
    with Ledger(ledger_path(destination)) as ledger:
        last = "(SELECT max(id) FROM run WHERE haul IS NULL)"
        found = _summaries(ledger, f"id = coalesce(?, {last})", run)
        if not found:
            runs = ledger.rows("SELECT count(*) AS runs FROM run")[0]["runs"]
            raise UnreadableLedger(
                str(destination), f"has no run {run}", f"its runs are numbered 1 to {runs}"
            )
        yield OpenReceipt(ledger, found[0])


def read_receipt(destination: Path, run: int | None = None) -> Receipt:
    """Read the whole receipt of a run, by default of the last one.

    Raises:
        UnreadableLedger: no ledger, or no such run in it.
    """
    with open_receipt(destination, run) as receipt:
        summary = receipt.summary
        known = asdict(summary)
        return Receipt(**known, rows=[*receipt.rows()])


def read_runs(destination: Path) -> list[RunSummary]:
    """Return every haul into a destination, the oldest first.

    Raises:
        UnreadableLedger: no ledger.
    """
    with Ledger(ledger_path(destination)) as ledger:
        return _summaries(ledger, "?", True)


def _summaries(ledger: Ledger, condition: str, value: object) -> list[RunSummary]:
    """Return the runs that match a condition, the oldest first."""
    heads = ledger.rows(f"SELECT {_HEAD} FROM run WHERE {condition} ORDER BY id", value)
    counts: defaultdict[int, Counter[State]] = defaultdict(Counter)
    received: Counter[int] = Counter()
    for run, state, files, came in ledger.rows(
        "SELECT run, state, count(*), sum(received) FROM result"
        f" WHERE run IN (SELECT id FROM run WHERE {condition}) GROUP BY run, state", value
    ):  # fmt: skip
        try:
            counts[run][State(state)] += files
            received[run] += came
        except (ValueError, TypeError):
            raise ledger.altered(f"a run has files that are {state!r:.80}") from None
    members: Counter[int] = Counter()
    for run, files in ledger.each_row(
        # What a step of an errand unpacked counts for its haul as well.
        "SELECT whole.id, count(*) FROM arrival JOIN run AS own ON own.id = arrival.run"
        " JOIN run AS whole ON whole.id IN (own.id, own.haul)"
        " WHERE archive != '' AND instead = ''"
        f" AND whole.id IN (SELECT id FROM run WHERE {condition}) GROUP BY whole.id",
        value,
    ):
        members[run] = files
    for head in heads:
        try:
            require_run(head)
        except Altered as error:
            raise ledger.altered(str(error)) from None
    return [
        RunSummary(
            **dict(head),
            counts=counts[head["run"]],
            received=received[head["run"]],
            unpacked=members[head["run"]],
        )
        for head in heads
    ]


def read_story(destination: Path, name: str) -> list[Chapter]:
    """Return the result of one file in every haul, the oldest first.

    Args:
        destination: the folder.
        name: the file's path there, its address, or just its name.

    Raises:
        UnreadableLedger: no ledger, or no such file in it.
    """
    with Ledger(ledger_path(destination)) as ledger:
        found = _addresses_of(ledger, name)
        if not found:
            raise UnreadableLedger(
                str(destination), f"has no file {name}", "give its path or its address"
            )
        return [
            Chapter(row["run"], str(row["started"]), _read_row(ledger, row, 2))
            for key, address in found
            for row in ledger.rows(_STORY_INSIDE if is_inside(address) else _STORY, key, address)
        ]


def _addresses_of(ledger: Ledger, name: str) -> list[tuple[str, str]]:
    """Return the keys and addresses of a file given by path, address or name."""
    ends_so = "(path = ?1 OR substr(path, -length(?1) - 1) = '/' || ?1)"
    key = ledger.key_of(address_id(_normal(name)))
    # The third looks for the end of a path in an index of paths alone: there may be millions.
    for place, value in (
        ("arrival WHERE key = ?1", key),
        ("arrival WHERE path = ?1", name),
        (f"arrival WHERE id IN (SELECT id FROM arrival WHERE {ends_so})", name),
        ("result WHERE key = ?1", key),
        (f"result WHERE reason != '' AND {ends_so}", name),
        ("result WHERE address = ?1", name),
    ):
        statement = f"SELECT DISTINCT key, address FROM {place}"
        if found := [(row["key"], row["address"]) for row in ledger.each_row(statement, value)]:
            return found
    return []


def _normal(name: str) -> str:
    with suppress(BadAddress):
        return normalise(name)
    return name
