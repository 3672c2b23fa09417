"""The ledger: the record of what arrived in a destination, in `.willow/ledger.db`."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager
from operator import attrgetter
from pathlib import Path
from typing import Self, TypeVar

from willow_cart.destination import cannot_store
from willow_cart.errors import CannotStore, UnreadableLedger
from willow_cart.identity import AddressId, LedgerKey, address_id, ledger_key
from willow_cart.ledger.entries import (
    TWIN,
    Arrival,
    Made,
    Move,
    PartRecord,
    Result,
    StepRecord,
    timestamp,
)
from willow_cart.ledger.opening import DAMAGE, LedgerFile, altered, unreadable
from willow_cart.ledger.validation import (
    Altered,
    read_arrival,
    read_made,
    read_move,
    read_part,
    read_step,
)
from willow_cart.redaction import INSIDE
from willow_cart.structs import asdict
from willow_cart.version import __version__

PRESENT = "id IN (SELECT max(id) FROM arrival GROUP BY path) AND instead = ''"
"""Condition for the latest arrival under every path at which a file should be."""

# In the words of the index of twins.
_IS_TWIN = "substr(instead, 1, 5) = 'twin '"
_IS_LATEST = "id = (SELECT max(id) FROM arrival AS later WHERE later.path = a.path)"

OF_ARCHIVE = (
    "key >= ?1 AND key < ?1 || char(1114111) AND instead != 'nothing' AND NOT EXISTS"
    " (SELECT 1 FROM arrival AS later WHERE later.path = a.path AND later.id > a.id) ORDER BY path"
)
"""Condition for the files of an archive: keys and later files are found by indexes."""

ARRIVAL_COLUMNS = ", ".join(Arrival.__struct_fields__)
"""The columns of an arrival, for queries."""

_ARRIVAL_MARKS = ", ".join("?" for _ in Arrival.__struct_fields__)
_Entry = TypeVar("_Entry")

_arrival_values = attrgetter(*Arrival.__struct_fields__)


class Ledger:
    """The ledger's tables and queries; used by one thread at a time (see `transfer.commit`).

    Raises:
        UnreadableLedger: it does not exist, is damaged, or of a later version.
    """

    def __init__(self, path: Path, *, create: bool = False) -> None:
        self._before = 0
        self._path = path
        self._file = LedgerFile(path, create=create)
        self._base.row_factory = sqlite3.Row
        self._salt = self._file.salt

    def __enter__(self) -> Self:
        return self

    def __exit__(self, _: object, error: BaseException | None, __: object) -> None:
        self.close()
        if isinstance(error, DAMAGE):
            raise unreadable(self._path, error) from None

    @property
    def _base(self) -> sqlite3.Connection:
        return self._file.base

    def close(self) -> None:
        """Close the file; committed entries are in it."""
        self._file.close()

    def key_of(self, identifier: AddressId) -> LedgerKey:
        """Return the key of an address in this ledger."""
        return ledger_key(identifier, self._salt)

    def key_of_arrival(self, arrival: Arrival) -> LedgerKey:
        """Return the key of a file's address, also of one that is not entered."""
        return arrival.key or self.key_of(address_id(arrival.address))

    def restore(self) -> bool:
        """Create the file again if it was deleted while open; return whether it was.

        Raises:
            CannotStore: it cannot be made.
        """
        try:
            return self._file.restore()
        except OSError as error:
            raise cannot_store(str(self._path), error) from None
        except sqlite3.Error as error:
            raise CannotStore(
                str(self._path), f"cannot be made again: {error}", "check the folder and the disk"
            ) from None

    @contextmanager
    def transaction(self, *, lasting: bool = False) -> Iterator[None]:
        """Run the block in a transaction.

        Args:
            lasting: whether it, and all before it, is to be safe against a power cut at the end.
        """
        self._base.execute(f"PRAGMA synchronous = {'FULL' if lasting else 'NORMAL'}")
        self._base.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._base.execute("ROLLBACK")
            raise
        self._base.execute("COMMIT")

    # What happens in a haul

    def begin_run(self, command: str, note: str = "") -> int:
        """Start a run and return its number.

        Args:
            command: as typed, without secrets.
            note: the user's note.
        """
        cursor = self._base.execute(
            "INSERT INTO run (command, started, note, software) VALUES (?, ?, ?, ?)",
            (command, timestamp(), note, f"willow-cart {__version__}"),
        )
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def reopen_run(self, run: int) -> None:
        """Continue a run; new results are numbered after the existing ones."""
        self._base.execute("UPDATE run SET ended = NULL, exit_code = NULL WHERE id = ?", (run,))
        (last,) = self._base.execute(
            "SELECT coalesce(max(number), 0) FROM result WHERE run = ?", (run,)
        ).fetchone()
        self._before = last

    def end_run(self, run: int, exit_code: int) -> None:
        """Record the end of a run."""
        self._base.execute(
            "UPDATE run SET ended = ?, exit_code = ? WHERE id = ?", (timestamp(), exit_code, run)
        )

    def record_step(self, run: int, step: StepRecord, own_run: int | None = None) -> None:
        """Record a step of an errand with the haul that it followed.

        Args:
            run: of the haul.
            step: the step; one that was run before is replaced.
            own_run: the run that the step had in this ledger; None for none.
        """
        self._base.execute(
            "INSERT OR REPLACE INTO step VALUES (?, ?, ?, ?, ?, ?, ?)",
            (run, step.number, step.command, step.started, step.ended, step.exit_code,
             json.dumps(step.counts)),
        )  # fmt: skip
        self._base.execute("UPDATE run SET haul = ? WHERE id = ?", (run, own_run))

    def steps_of(self, run: int) -> list[StepRecord]:
        """Return the steps that followed a haul, in order.

        Raises:
            UnreadableLedger: it was altered.
        """
        rows = self.rows(
            "SELECT number, command, started, ended, exit_code, counts FROM step WHERE run = ?"
            " ORDER BY number", run
        )  # fmt: skip
        try:
            return [read_step(row) for row in rows]
        except Altered as error:
            raise self.altered(str(error)) from None

    def last_haul(self) -> int | None:
        """Return the number of the last run that is no step of an errand; None for none."""
        (found,) = self.rows("SELECT max(id) AS last FROM run WHERE haul IS NULL")
        return None if found["last"] is None else int(found["last"])

    def keep_timeline(self, run: int, timeline: str) -> None:
        """Store the timeline of a run (see `Timeline.as_text`), replacing an earlier one."""
        self._base.execute("UPDATE run SET timeline = ? WHERE id = ?", (timeline, run))

    def record(self, run: int, result: Result) -> None:
        """Record the result of a file; its partial file is forgotten."""
        self.enter(run, result)
        if result.arrival is not None:
            self.forget_parts([result.id])

    def enter(self, run: int, result: Result) -> None:
        """Record the result of a file; its partial file is left to `forget_parts`."""
        key = self.key_of(result.id)
        if result.arrival is not None:
            self._enter_arrival(run, result.arrival, key)
        self._base.execute(
            "INSERT INTO result SELECT ?, ?, ?, ?, ?,"
            " (SELECT max(id) FROM arrival WHERE key = ?), ?, ?, ?, ?, ?, ?, ?, ?",
            (run, self._before + result.number, result.address, result.path, result.state,
             key, result.reason, result.received, result.resumed, result.attempts,
             result.seconds, result.note, result.worker, key),
        )  # fmt: skip

    def record_arrival(self, run: int, arrival: Arrival) -> None:
        """Record a file that has its name now, under its own key; its partial file is forgotten."""
        self._enter_arrival(run, arrival, arrival.key)
        self.forget_keys([arrival.key])

    def _enter_arrival(self, run: int, arrival: Arrival, key: LedgerKey) -> None:
        *values, _ = _arrival_values(arrival)
        self._base.execute(
            f"INSERT INTO arrival (run, {ARRIVAL_COLUMNS}) VALUES (?, {_ARRIVAL_MARKS})",
            (run, *values, key),
        )

    def keep_part(self, identifier: AddressId, part: PartRecord) -> None:
        """Record the partial file of an address, replacing another one."""
        marks, key = part.validators, self.key_of(identifier)
        sealed = json.dumps({**asdict(part.sealed), "key": key}) if part.sealed else None
        self._base.execute(
            "INSERT OR REPLACE INTO part VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (key, part.address, part.final_address, part.file, part.length,
             marks.entity_tag, marks.last_modified, marks.date, part.joining, sealed,
             part.synced, part.boot, part.promised, part.digests),
        )  # fmt: skip

    def mark_part(self, identifier: AddressId, file: str, synced: str, digests: str) -> None:
        """Record which bytes of a partial file are synced, if it is still the same file."""
        self._base.execute(
            "UPDATE part SET synced = ?, digests = ? WHERE key = ? AND file = ?",
            (synced, digests, self.key_of(identifier), file),
        )

    def adopt_parts(self, boot: str) -> None:
        """Mark all partial files as written since this boot."""
        self._base.execute("UPDATE part SET boot = ?", (boot,))

    def forget_parts(self, identifiers: Collection[AddressId]) -> None:
        """Forget the partial files of addresses."""
        self.forget_keys([*map(self.key_of, identifiers)])

    def forget_keys(self, keys: Sequence[LedgerKey]) -> None:
        """Forget the partial files of keys."""
        self._base.execute(
            "DELETE FROM part WHERE key IN (SELECT value FROM json_each(?))", (json.dumps(keys),)
        )

    # What happens in refiling

    def keep_moves(self, moves: Iterable[Move]) -> None:
        """Record moves before they are made, so that they can be completed after a kill."""
        self._base.executemany(
            "INSERT INTO move VALUES (?, ?, ?, ?)",
            ((move.address, move.old, move.new, move.file) for move in moves),
        )

    def forget_moves(self) -> None:
        """Forget the recorded moves: all were made, or none."""
        self._base.execute("DELETE FROM move")

    def move_arrivals(self, moves: Iterable[Move]) -> None:
        """Record new paths for the latest arrivals at old ones."""
        # All are found before the first is changed: two files may change names.
        latest = "SELECT max(id) FROM arrival WHERE path = ?"
        moving: list[tuple[str, int]] = []
        standing: list[tuple[str, int]] = []
        twins = f"SELECT id FROM arrival WHERE instead = ? AND {_IS_TWIN}"
        for move in moves:
            moving.append((move.new, *self._base.execute(latest, (move.old,)).fetchone()))
            rows = self._base.execute(twins, (f"{TWIN}{move.old}",))
            standing += ((f"{TWIN}{move.new}", row["id"]) for row in rows)
        self._base.executemany("UPDATE arrival SET path = ? WHERE id = ?", moving)
        self._base.executemany("UPDATE arrival SET instead = ? WHERE id = ?", standing)

    def made(self) -> list[Made]:
        """Return the files that were made here, by path.

        Raises:
            UnreadableLedger: an entry was altered.
        """
        rows = self.rows("SELECT path, sha256, size, source FROM made ORDER BY path")
        return [self._read(read_made, row) for row in rows]

    def keep_made(self, files: Iterable[Made]) -> None:
        """Record the files that were made here, replacing earlier entries."""
        self._base.execute("DELETE FROM made")
        self._base.executemany(
            "INSERT INTO made VALUES (?, ?, ?, ?)",
            ((each.path, each.sha256, each.size, each.source) for each in files),
        )

    def moves(self) -> list[Move]:
        """Return the moves of an interrupted refiling.

        Raises:
            UnreadableLedger: an entry was altered.
        """
        rows = self.each_row("SELECT address, old, new, file FROM move")
        return [self._read(read_move, row) for row in rows]

    def altered(self, what: str) -> UnreadableLedger:
        """Return the error for an entry that this program did not write."""
        return altered(self._path, what)

    def _read(self, read: Callable[[sqlite3.Row], _Entry], row: sqlite3.Row) -> _Entry:
        try:
            return read(row)
        except Altered as error:
            raise altered(self._path, str(error)) from None

    # What happens to what has arrived

    def keep_unhandled(self, identifier: AddressId) -> None:
        """Record that the user's command is to be run for a file."""
        key = self.key_of(identifier)
        self._base.execute("INSERT OR REPLACE INTO unhandled VALUES (?)", (key,))

    def forget_unhandled(self, key: LedgerKey) -> None:
        """Forget this record: the command has succeeded."""
        self._base.execute("DELETE FROM unhandled WHERE key = ?", (key,))

    def unhandled(self) -> list[Arrival]:
        """Return the arrivals for which the command is still to be run."""
        latest = "SELECT max(id) FROM arrival WHERE key IN (SELECT key FROM unhandled)"
        return [*self._arrivals(f"id IN ({latest} GROUP BY key) ORDER BY id")]

    def keep_members(
        self,
        run: int,
        archive: Arrival,
        wish: str,
        members: Iterable[Arrival],
        left_out: int | None,
    ) -> None:
        """Record the files that were unpacked from an archive.

        Args:
            archive: as it was unpacked.
            members: the files under its name now.
            left_out: how many members could not be taken, and never can; None if it is to be
                unpacked again, since others might be taken then.
        """
        for member in members:
            self.record_arrival(run, member)
        if left_out is not None:
            self._base.execute(
                "INSERT OR REPLACE INTO unpacking VALUES (?, ?, ?, ?)",
                (self.key_of_arrival(archive), wish, archive.sha256, left_out),
            )

    def replace_by(self, arrival: Arrival, instead: str) -> None:
        """Record what replaces a file that has left its path; see `Arrival.instead`."""
        self._base.execute(
            "UPDATE arrival SET instead = ?"
            " WHERE id = (SELECT max(id) FROM arrival WHERE path = ?) AND sha256 = ?",
            (instead, arrival.path, arrival.sha256),
        )

    def dependants_of(self, path: str) -> list[Arrival]:
        """Return the latest arrivals at other paths whose content is the file at a path."""
        condition = f"instead = ? AND {_IS_TWIN} AND {_IS_LATEST}"
        return [*self._arrivals(condition, f"{TWIN}{path}")]

    def twins(self) -> Iterator[Arrival]:
        """Yield the latest arrivals whose content is the file at another path, by that path."""
        yield from self._arrivals(f"{_IS_TWIN} AND {_IS_LATEST} ORDER BY instead")

    def paths_for_twins(self) -> set[str]:
        """Return the paths of files that stand for others with the same content."""
        statement = "SELECT instead FROM arrival WHERE substr(instead, 1, ?) = ?"
        rows = self.rows(statement, len(TWIN), TWIN)
        return {str(row["instead"]).removeprefix(TWIN) for row in rows}

    def left_out_of(self, archive: Arrival, wish: str) -> int | None:
        """Return how many members of this version of an archive were left out.

        None if it has not been unpacked as is wished.
        """
        statement = "SELECT left_out FROM unpacking WHERE (key, wish, sha256) = (?, ?, ?)"
        values = (self.key_of_arrival(archive), wish, archive.sha256)
        row = self._base.execute(statement, values).fetchone()
        return None if row is None else int(row["left_out"])

    def unpacked_in(self, run: int) -> Iterator[Arrival]:
        """Yield the files unpacked in a run, and in the steps that followed it, in order."""
        yield from self._arrivals(
            "run IN (SELECT id FROM run WHERE ?1 IN (id, haul)) AND archive != ''"
            " AND instead = '' ORDER BY id", run
        )  # fmt: skip

    def latest_at(self, path: str) -> Arrival | None:
        """Return the latest arrival at a path, or None."""
        return next(self._arrivals("path = ? ORDER BY id DESC LIMIT 1", path), None)

    def brought_in(self, run: int, path: str) -> Arrival | None:
        """Return the latest arrival at a path, if it was in a given run."""
        condition = "path = ?1 AND run = ?2 AND id = (SELECT max(id) FROM arrival WHERE path = ?1)"
        return next(self._arrivals(condition, path, run), None)

    def members_of(self, archive: Arrival) -> Iterator[Arrival]:
        """Yield the files unpacked from an archive that exist or have a twin."""
        yield from self._arrivals(OF_ARCHIVE, f"{self.key_of_arrival(archive)}{INSIDE}")

    # What is known

    def parts(self) -> dict[LedgerKey, PartRecord]:
        """Return the resumable partial files by the keys of their addresses.

        Raises:
            UnreadableLedger: an entry was altered.
        """
        rows = self._base.execute("SELECT * FROM part")
        return {LedgerKey(str(row["key"])): self._read(read_part, row) for row in rows}

    def latest_arrivals(self, order: str = "path") -> Iterator[Arrival]:
        """Yield the latest arrival under each path that has a file, in an order of columns."""
        yield from self._arrivals(f"{PRESENT} ORDER BY {order}")

    def bytes_present(self) -> int:
        """Return the size of all files that `latest_arrivals` yields."""
        (found,) = self.rows(f"SELECT coalesce(sum(size), 0) AS bytes FROM arrival WHERE {PRESENT}")
        return int(found["bytes"])

    def vouches_for(self, path: str) -> bool:
        """Whether a file at a path is recorded, as one that arrived or that was made."""
        row = self._base.execute(
            "SELECT instead FROM arrival WHERE path = ? ORDER BY id DESC LIMIT 1", (path,)
        ).fetchone()
        if row is not None and not row["instead"]:
            return True
        made = self._base.execute("SELECT 1 FROM made WHERE path = ?", (path,))
        return made.fetchone() is not None

    def arrivals_of(self, run: int) -> Iterator[Arrival]:
        """Yield the files of a haul that are there, those from archives included, by path."""
        return self._arrivals(
            "id IN (SELECT arrival FROM result WHERE run = ?1"
            " UNION SELECT own.id FROM arrival AS own"
            " WHERE own.run IN (SELECT id FROM run WHERE ?1 IN (id, haul)) AND own.archive != '')"
            " AND instead = '' ORDER BY path", run
        )  # fmt: skip

    def known_bytes(self, digests: Collection[str]) -> set[str]:
        """Return which of these SHA-256 digests are recorded for a file."""
        rows = self._base.execute(
            "SELECT value FROM json_each(?)"
            f" WHERE EXISTS (SELECT 1 FROM arrival WHERE {_has_bytes('value')})",
            (json.dumps([*digests]),),
        )
        return {row["value"] for row in rows}

    def with_bytes_of(self, arrival: Arrival) -> Iterator[Arrival]:
        """Yield other arrivals with the same content, the earliest first."""
        condition = f"{_has_bytes('?1')} AND path != ?2 AND instead = '' ORDER BY id"
        yield from self._arrivals(condition, arrival.sha256, arrival.path)

    def _arrivals(self, condition: str, *values: object) -> Iterator[Arrival]:
        statement = f"SELECT {ARRIVAL_COLUMNS} FROM arrival AS a WHERE {condition}"
        for row in self._base.execute(statement, values):
            yield self._read(read_arrival, row)

    def cut_off(self) -> str | None:
        """Return when the last run started if it was cut off; None otherwise."""
        row = self._base.execute("SELECT * FROM run ORDER BY id DESC LIMIT 1").fetchone()
        return None if row is None or row["ended"] is not None else str(row["started"])

    def rows(self, statement: str, *values: object) -> list[sqlite3.Row]:
        """Return the rows of a query, for reports."""
        return [*self.each_row(statement, *values)]

    def each_row(self, statement: str, *values: object) -> Iterator[sqlite3.Row]:
        """Yield the rows of a query that may have many."""
        # Not delegated to the cursor: a generator that is left early would close it, too late.
        for row in self._base.execute(statement, values):  # noqa: UP028
            yield row


def _has_bytes(digest: str) -> str:
    """Return the condition that an arrival has a SHA-256, as an index answers it."""
    # The plus keeps the planner from folding both terms into one, which no index answers.
    return f"substr(sha256, 1, 16) = substr({digest}, 1, 16) AND +sha256 = {digest}"
