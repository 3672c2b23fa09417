"""Read and validate the ledger's entries.

A path must be one that files are filed under, so that nothing an entry says leads out of the
destination; a name of a partial file must be one that the program gives; everything else must have
the type and the range that the program writes.
"""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from willow_cart.destination import is_safe_path
from willow_cart.ledger.entries import TWIN, Arrival, Made, Move, PartRecord, StepRecord
from willow_cart.model import State, Validators

_SHA256 = re.compile(r"[0-9a-f]{64}")
_PARTIAL_NAME = re.compile(r"[0-9a-f]{24}")
_MOVING_NAME = re.compile(r"[0-9a-f]{1,20}")
_SPAN = re.compile(r"\d{1,18}-\d{1,18}")
_PIECE = re.compile(r"\d{1,18}-\d{1,18}:[0-9a-f]{8,64}")
_CHECKSUM = re.compile(r"[a-z0-9_]{1,20}:[0-9a-f]{8,128}")
# The states of results, and that of a file which came out of an archive.
_STATES = frozenset({*State, "unpacked"})
_MAX_NUMBER = 1 << 62
_JOINING = frozenset({"safe", "blind", "never"})

_TEXT = frozenset({str})
_TEXT_OR_NONE = frozenset({str, type(None)})
_NUMBER = frozenset({int})
_ARRIVAL_TYPES = tuple(
    _NUMBER if name in ("size", "mtime_ns")
    else _TEXT_OR_NONE if name in ("entity_tag", "last_modified")
    else _TEXT
    for name in Arrival.__struct_fields__
)  # fmt: skip


class Altered(ValueError):
    """An entry that this program did not write; the text is the reason."""


def read_arrival(row: Sequence[Any]) -> Arrival:
    """Read an arrival from the values of its columns.

    Raises:
        Altered: it cannot be one.
    """
    for value, types in zip(row, _ARRIVAL_TYPES, strict=True):
        if type(value) not in types:
            raise Altered(f"{value!r:.80} is not a field of an arrival")
    arrival = Arrival(*row)
    _require_path(arrival.path)
    if arrival.instead not in ("", "members", "nothing"):
        if not arrival.instead.startswith(TWIN):
            raise Altered(f"{arrival.instead!r:.80} cannot stand for a file")
        _require_path(arrival.twin)
    if not _SHA256.fullmatch(arrival.sha256) or arrival.size < 0:
        raise Altered(f"the size or the SHA-256 of {arrival.path} cannot be right")
    _require_time(arrival.time)
    return arrival


def read_part(row: sqlite3.Row) -> PartRecord:
    """Read the record of a partial file from a row.

    Raises:
        Altered: it cannot be one.
    """
    part = PartRecord(
        row["address"],
        row["final_address"],
        row["file"],
        row["length"],
        Validators(row["entity_tag"], row["last_modified"], row["date"]),
        row["joining"],
        _read_sealed(row["sealed"]),
        row["synced"],
        row["boot"],
        row["promised"],
        row["digests"],
    )
    marks = (part.validators.entity_tag, part.validators.last_modified, part.validators.date)
    texts = (part.address, part.final_address, part.file, part.synced, part.boot, part.promised,
             part.digests, part.joining)  # fmt: skip
    if any(type(each) is not str for each in texts) or any(
        type(each) not in _TEXT_OR_NONE for each in marks
    ):
        raise Altered("the record of a partial file is not text")
    if not _PARTIAL_NAME.fullmatch(part.file):
        raise Altered(f"{part.file!r:.80} is not the name of a partial file")
    if not (part.length is None or (type(part.length) is int and part.length >= 0)):
        raise Altered(f"{part.length!r:.80} is not a length")
    if part.joining not in _JOINING or not (
        all(map(_SPAN.fullmatch, part.synced.split(",") if part.synced else ()))
        and all(map(_PIECE.fullmatch, part.digests.split()))
        and all(map(_CHECKSUM.fullmatch, part.promised.split()))
    ):
        raise Altered(f"the record of the partial file {part.file} cannot be right")
    return part


def read_made(row: sqlite3.Row) -> Made:
    """Read the entry of a file that was made here from a row.

    Raises:
        Altered: it cannot be one.
    """
    made = Made(*row)
    _require_path(made.path)
    if type(made.sha256) is not str or type(made.source) is not str or type(made.size) is not int:
        raise Altered(f"the entry of {made.path} cannot be right")
    return made


def read_move(row: sqlite3.Row) -> Move:
    """Read the entry of a move from a row.

    Raises:
        Altered: it cannot be one.
    """
    move = Move(*row)
    _require_path(move.old)
    _require_path(move.new)
    if type(move.address) is not str:
        raise Altered(f"{move.address!r:.80} is not an address")
    if type(move.file) is not str or not _MOVING_NAME.fullmatch(move.file):
        raise Altered(f"{move.file!r:.80} is not the name of a file on its way")
    return move


def read_step(row: sqlite3.Row) -> StepRecord:
    """Read a step of an errand from a row.

    Raises:
        Altered: it cannot be one.
    """
    texts = (row["command"], row["started"], row["ended"], row["counts"])
    numbers = (row["number"], row["exit_code"])
    if any(type(each) is not str for each in texts) or any(type(n) is not int for n in numbers):
        raise Altered("the entry of a step is not what is written for one")
    for time in (row["started"], row["ended"]):
        _require_time(time)
    try:
        counts = json.loads(row["counts"])
    except (ValueError, RecursionError):
        raise Altered("the counts of a step cannot be read") from None
    if not isinstance(counts, dict) or any(type(each) is not int for each in counts.values()):
        raise Altered("the counts of a step are no numbers")
    return StepRecord(
        row["number"], row["command"], row["started"], row["ended"], row["exit_code"], counts
    )


def require_run(row: sqlite3.Row) -> None:
    """Validate the head of a run.

    Raises:
        Altered: it is one.
    """
    texts = (row["command"], row["started"], row["note"], row["software"])
    if any(type(each) is not str for each in texts):
        raise Altered("the entry of a run is not text")
    if row["exit_code"] is not None and type(row["exit_code"]) is not int:
        raise Altered(f"{row['exit_code']!r:.80} is not an exit code")
    _require_time(row["started"])
    if row["ended"] is not None:
        _require_time(row["ended"])


def require_result(row: sqlite3.Row) -> None:
    """Validate a result and the facts about its file.

    Raises:
        Altered: it is one.
    """
    for column in ("number", "received", "resumed", "attempts", "seconds"):
        if type(row[column]) not in (int, float) or not 0 <= row[column] < _MAX_NUMBER:
            raise Altered(f"{column} is {row[column]!r:.80} in a result")
    for column in ("state", "path", "address", "reason", "note", "worker"):
        if type(row[column]) is not str:
            raise Altered(f"{column} is {row[column]!r:.80} in a result")
    if row["state"] not in _STATES:
        raise Altered(f"{row['state']!r:.80} is not a state")
    for column in ("final_address", "sha256", "entity_tag", "last_modified", "expected",
                   "verdict", "decoded"):  # fmt: skip
        if type(row[column]) not in _TEXT_OR_NONE:
            raise Altered(f"{column} is {row[column]!r:.80} in a result")
    size = row["size"]
    if size is not None and (type(size) is not int or size < 0):
        raise Altered(f"{size!r:.80} is not a size")
    if row["time"] is not None:
        _require_time(row["time"])


def _read_sealed(text: object) -> Arrival | None:
    if not text:
        return None
    try:
        facts = json.loads(str(text))
        if not isinstance(facts, Mapping) or not facts.keys() <= set(Arrival.__struct_fields__):
            raise Altered("a sealed arrival has other columns")
        arrival = Arrival(**facts)
    except (ValueError, TypeError, RecursionError):
        raise Altered("a sealed arrival cannot be read") from None
    return read_arrival([getattr(arrival, name) for name in Arrival.__struct_fields__])


def _require_path(path: object) -> None:
    if not (type(path) is str and is_safe_path(path)):
        raise Altered(f"{path!r:.80} is not a path for a file")


def _require_time(text: object) -> None:
    try:
        datetime.fromisoformat(text)  # type: ignore[arg-type]
    except (ValueError, TypeError):
        raise Altered(f"{text!r:.80} is not a time") from None
