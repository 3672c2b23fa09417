"""Receipts: the account of one haul, read from the ledger."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from willow_cart.errors import UnreadableLedger
from willow_cart.model import OWN_FOLDER, State
from willow_cart.records.ledger import Ledger


@dataclass(frozen=True, slots=True)
class Row:
    """One file of a haul; `size` to `verdict` are of what lies here, if anything does."""

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


@dataclass(frozen=True, slots=True)
class RunHead:
    """What is known of a haul as a whole.

    Attributes:
        run: its number in this destination, from 1.
        command: as typed, without secrets.
        started, ended: ISO 8601, UTC; `ended` is None for a run that was killed.
        exit_code: None likewise.
        note: the person's own words about it.
        software: what did it, with its version; empty for a ledger of the first version.
    """

    run: int
    command: str
    started: str
    ended: str | None
    exit_code: int | None
    note: str
    software: str


@dataclass(frozen=True, slots=True)
class RunSummary(RunHead):
    """One haul in a line.

    Attributes:
        counts: how many files there are in each state.
        received: bytes that came over the line.
    """

    counts: Mapping[State, int]
    received: int


@dataclass(frozen=True, slots=True)
class Chapter:
    """What became of one file in one haul.

    Attributes:
        run: the haul's number.
        started: when that began, in UTC, ISO 8601.
        row: what became of it.
    """

    run: int
    started: str
    row: Row


@dataclass(frozen=True, slots=True)
class Receipt(RunHead):
    """The account of one haul.

    Attributes:
        rows: what became of each file, in the order of the haul.
    """

    rows: list[Row]

    @property
    def counts(self) -> Mapping[State, int]:
        """How many files there are in each state."""
        return Counter(State(row.state) for row in self.rows)

    @property
    def received(self) -> int:
        """Bytes that came over the line in this run."""
        return sum(row.received for row in self.rows)


_HEAD = "id AS run, command, started, ended, exit_code, note, software"

_ROW = (
    "number, state, result.path, result.address, final_address, time, size, sha256, entity_tag,"
    " last_modified, expected, verdict, decoded, received, resumed, attempts, seconds, reason"
    " FROM result LEFT JOIN arrival ON arrival.id = result.arrival"
)


def read_receipt(destination: Path, run: int | None = None) -> Receipt:
    """Read the receipt of a run; of the last one where none is named.

    Raises:
        UnreadableLedger: there is no ledger, or no such run in it.
    """
    with Ledger(ledger_path(destination)) as ledger:
        runs = ledger.rows(
            f"SELECT {_HEAD} FROM run WHERE id = coalesce(?, (SELECT max(id) FROM run))", run
        )
        if not runs:
            last = ledger.rows("SELECT count(*) AS runs FROM run")[0]["runs"]
            raise UnreadableLedger(
                str(destination), f"has no run {run}", f"its runs are numbered 1 to {last}"
            )
        (head,) = runs
        rows = ledger.rows(f"SELECT {_ROW} WHERE result.run = ? ORDER BY number", head["run"])
        return Receipt(**dict(head), rows=[Row(*row) for row in rows])


def read_runs(destination: Path) -> list[RunSummary]:
    """Every haul into a destination, the first one first.

    Raises:
        UnreadableLedger: there is no ledger.
    """
    with Ledger(ledger_path(destination)) as ledger:
        counts: defaultdict[int, Counter[State]] = defaultdict(Counter)
        received: Counter[int] = Counter()
        for run, state, files, came in ledger.rows(
            "SELECT run, state, count(*), sum(received) FROM result GROUP BY run, state"
        ):
            counts[run][State(state)] += files
            received[run] += came
        return [
            RunSummary(**dict(head), counts=counts[head["run"]], received=received[head["run"]])
            for head in ledger.rows(f"SELECT {_HEAD} FROM run ORDER BY id")
        ]


def read_story(destination: Path, name: str) -> list[Chapter]:
    """What became of one file in every haul, the first one first.

    Args:
        destination: the folder.
        name: the file's path there, its address, or just its name.

    Raises:
        UnreadableLedger: there is no ledger, or no such file in it.
    """
    with Ledger(ledger_path(destination)) as ledger:
        addresses = ledger.rows(
            "SELECT DISTINCT address FROM arrival WHERE path = ? OR address = ?", name, name
        ) or ledger.rows(
            "SELECT DISTINCT address FROM result WHERE address = ? OR path = ?"
            " OR substr(path, -?) = ?", name, name, len(name) + 1, f"/{name}"
        )  # fmt: skip
        if not addresses:
            raise UnreadableLedger(
                str(destination), f"has no file {name}", "give its path or its address"
            )
        return [
            Chapter(row["run"], row["started"], Row(*row[2:]))
            for each in addresses
            for row in ledger.rows(
                f"SELECT result.run, (SELECT started FROM run WHERE id = result.run) AS started,"
                f" {_ROW} WHERE result.address = ? ORDER BY result.run",
                each["address"],
            )
        ]


def ledger_path(destination: Path) -> Path:
    """Where a destination keeps its ledger."""
    return destination / OWN_FOLDER / "ledger.db"
