"""Offers as a table: CSV by RFC 4180, as people and spreadsheets write it."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import TextIO

from willow_cart.addresses import normalise, without_secrets
from willow_cart.checks import read_checksum
from willow_cart.errors import BadOption, NotUnderstood, UnreadableSource
from willow_cart.model import Offer, Trouble
from willow_cart.units import parse_size

COLUMNS = (
    "take", "number", "name", "folder", "size", "modified",
    "kind", "source", "text", "heading", "checksum", "url",
)  # fmt: skip
"""The columns of a cart, in order. Only `url` must be there when one is read."""

# What people write in the `take` column.
_YES = frozenset({"yes", "y", "x", "1", "true"})
_NO = frozenset({"", "no", "n", "0", "false"})

_DELIMITERS = ",;\t"

# What makes a spreadsheet run a cell as a formula when the file is opened in one.
_RUNS = ("=", "+", "-", "@", "\t", "\r")


def looks_like_table(text: str) -> bool:
    """Whether a text begins with a header row that has a `url` column."""
    return _header_of(_first_line(text)) is not None


def _first_line(text: str) -> str:
    """The first line that is not blank."""
    return re.split(r"[\r\n]", text.lstrip(), maxsplit=1)[0]


def _header_of(line: str) -> tuple[list[str], str] | None:
    """The column names of a header row, in lower case, and the delimiter between them."""
    for delimiter in _DELIMITERS:
        try:
            cells = next(csv.reader([line], delimiter=delimiter), [])
        except csv.Error:  # a line of a size that no header row has
            return None
        names = [cell.strip().lower() for cell in cells]
        if "url" in names:
            return names, delimiter
    return None


def read_table(text: str, place: str) -> Iterator[Offer | Trouble]:
    """Read offers from a table with named columns.

    `url` must be among the columns; `take`, `name`, `folder`, `size`, `modified`, `text`, `heading`
    and `checksum` are read too, whatever their order; others are passed over. An empty row is
    passed over, and so is one whose `take` is empty or no.

    Args:
        text: the table, without a byte-order mark.
        place: where it came from, for messages.

    Yields:
        The offer in each row, or what is wrong with the row.

    Raises:
        UnreadableSource: the table has no `url` column.
    """
    header = _header_of(_first_line(text))
    if header is None:
        raise UnreadableSource(place, "has no column named url", "name the column of addresses url")
    names, delimiter = header
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    while not any(next(rows)):
        pass  # blank lines above the header, and then the header itself
    number = 0
    while True:
        try:
            cells = next(rows)
        except StopIteration:
            return
        except csv.Error as error:
            yield Trouble(f"{place}, line {rows.line_num}", f"is no row of a table: {error}")
            continue
        row = dict(zip(names, (_uncover(cell.strip()) for cell in cells), strict=False))
        if not any(row.values()):
            continue
        number += 1
        try:
            if _is_taken(row):
                yield _offer_from(row, place, number)
        except NotUnderstood as error:
            yield Trouble(f"{place}, line {rows.line_num}", str(error))


def _is_taken(row: dict[str, str]) -> bool:
    """Whether a row is wanted: all are, unless there is a `take` column that says otherwise."""
    mark = row.get("take", "yes").lower()
    if mark in _YES:
        return True
    if mark in _NO:
        return False
    raise BadOption(f"take {mark!r}", "is neither yes nor no", "write yes, or leave it empty")


def _offer_from(row: dict[str, str], place: str, number: int) -> Offer:
    # Before a size that some listing has rounded stands a tilde.
    size, about = row.get("size", ""), None
    if size.startswith("~"):
        size, about = "", parse_size(size[1:])
    checksum = row.get("checksum", "")
    return Offer(
        address=normalise(row.get("url", "")),
        source=place,
        number=number,
        name=row.get("name") or None,
        folder=row.get("folder") or None,
        size=parse_size(size) if size else None,
        about=about,
        modified=_read_moment(row.get("modified", "")),
        text=row.get("text", ""),
        heading=row.get("heading", ""),
        checksums=tuple(read_checksum(each) for each in checksum.split()),
    )


def write_table(offers: Iterable[tuple[Offer, bool]], to: TextIO) -> None:
    """Write offers as a cart: all columns, lines ended as RFC 4180 has it.

    Args:
        offers: each with whether it is taken.
        to: where; opened without translation of line ends.
    """
    writer = csv.writer(to)
    writer.writerow(COLUMNS)
    for offer, taken in offers:
        folder, _, name = offer.path.rpartition("/")
        row = {
            "take": "yes" if taken else "",
            "number": offer.number,
            "name": name,
            "folder": folder,
            "size": _written_size(offer),
            "modified": _iso(offer.modified),
            "kind": offer.kind,
            "source": offer.source,
            "text": offer.text,
            "heading": offer.heading,
            "checksum": " ".join(str(checksum) for checksum in offer.checksums),
            "url": without_secrets(offer.address),
        }
        writer.writerow([cover(str(row.get(column, ""))) for column in COLUMNS])


def _written_size(offer: Offer) -> str:
    if offer.size is None and offer.about is not None:
        return f"~{offer.about}"
    return "" if offer.size is None else str(offer.size)


def _read_moment(text: str) -> datetime | None:
    """Read a date as it was written here; one that a spreadsheet has made its own is unknown."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def _iso(moment: datetime | None) -> str:
    return moment.isoformat() if moment else ""


def cover(cell: str) -> str:
    """Keep a spreadsheet from running a cell; a cell that looks covered is covered once more."""
    return f"'{cell}" if cell.startswith((*_RUNS, "'")) else cell


def _uncover(cell: str) -> str:
    covered = cell.startswith("'") and cell[1:].startswith((*_RUNS, "'"))
    return cell[1:] if covered else cell
