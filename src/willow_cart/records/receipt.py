"""Receipts: the account of one haul, read from the ledger."""

from __future__ import annotations

from collections import Counter
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
class Receipt:
    """The account of one haul.

    Attributes:
        run: its number in this destination, from 1.
        command: as typed, without secrets.
        started, ended: ISO 8601, UTC; `ended` is None for a run that was killed.
        exit_code: None likewise.
        rows: what became of each file, in the order of the haul.
    """

    run: int
    command: str
    started: str
    ended: str | None
    exit_code: int | None
    rows: list[Row]

    @property
    def counts(self) -> Mapping[State, int]:
        """How many files there are in each state."""
        return Counter(State(row.state) for row in self.rows)

    @property
    def received(self) -> int:
        """Bytes that came over the line in this run."""
        return sum(row.received for row in self.rows)


def read_receipt(destination: Path, run: int | None = None) -> Receipt:
    """Read the receipt of a run; of the last one where none is named.

    Raises:
        UnreadableLedger: there is no ledger, or no such run in it.
    """
    with Ledger(ledger_path(destination)) as ledger:
        runs = ledger.rows(
            "SELECT * FROM run WHERE id = coalesce(?, (SELECT max(id) FROM run))", run
        )
        if not runs:
            last = ledger.rows("SELECT count(*) AS runs FROM run")[0]["runs"]
            raise UnreadableLedger(
                str(destination), f"has no run {run}", f"its runs are numbered 1 to {last}"
            )
        (head,) = runs
        rows = ledger.rows(
            "SELECT number, state, result.path, result.address, final_address, time, size, sha256,"
            " entity_tag, last_modified, expected, verdict, decoded, received, resumed, attempts,"
            " seconds, reason FROM result LEFT JOIN arrival ON arrival.id = result.arrival"
            " WHERE result.run = ? ORDER BY number",
            head["id"],
        )
        return Receipt(
            head["id"],
            head["command"],
            head["started"],
            head["ended"],
            head["exit_code"],
            [Row(*row) for row in rows],
        )


def ledger_path(destination: Path) -> Path:
    """Where a destination keeps its ledger."""
    return destination / OWN_FOLDER / "ledger.db"
