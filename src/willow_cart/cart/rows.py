"""Convert offers with their marks to rows of a cart, and back."""

from __future__ import annotations

import csv
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from operator import itemgetter
from pathlib import Path
from typing import TYPE_CHECKING, Any

from willow_cart.addresses import normalise
from willow_cart.cart.cells import is_day_first, read_bytes, read_date, read_mark
from willow_cart.cart.columns import CART_COLUMNS, COLUMNS, GONE, PLAIN_COLUMNS
from willow_cart.cart.sheet import Sheet, SheetRow, uncover
from willow_cart.errors import BadAddress, BadOption, UsageError
from willow_cart.model import Issue, Offer
from willow_cart.structs import Record, Value, field
from willow_cart.units import read_count

if TYPE_CHECKING:
    from _typeshed import SupportsWrite

# Those whose cell alone decides; the others are read by `RowReader` together.
_READ_ALONE = tuple(column for column in CART_COLUMNS if column.read is not None)
_OF_OFFERS = CART_COLUMNS[1:]
_NUMBER = COLUMNS.index("number") - 1

# Several addresses in one cell are mirrors; a space within one is left to it.
_BETWEEN_ADDRESSES = re.compile(r"(?<!\s)\s++(?=[A-Za-z][A-Za-z0-9+.-]*+://)")

_MAX_NAMED_ROWS = 5


class CartRow(Value):
    """A readable row.

    Attributes:
        row: as it is written.
        offer: the offer in it.
        taken: whether it is to be hauled.
        gone: whether its source did not offer it any more when it was last loaded.
    """

    row: SheetRow
    offer: Offer
    taken: bool
    gone: bool


class Unread(Value):
    """An unreadable row.

    Attributes:
        row: as it is written; None if it cannot even be distinguished from its neighbours.
        trouble: the problem.
    """

    row: SheetRow | None
    trouble: Issue


class Oddities(Record):
    """Unreadable cells in otherwise readable rows, by column; they are treated as unknown.

    Attributes:
        rows: the numbers of the rows.
        why: the problem with the first of them.
    """

    rows: defaultdict[str, list[int]] = field(default_factory=lambda: defaultdict(list))
    why: dict[str, str] = field(default_factory=dict)

    def add(self, column: str, row: int, error: BadOption) -> None:
        """Record one more cell."""
        self.rows[column].append(row)
        self.why.setdefault(column, str(error))

    def told(self, place: str) -> list[str]:
        """Return a message for each column."""
        lines = []
        for column, rows in self.rows.items():
            named = ", ".join(map(str, rows[:_MAX_NAMED_ROWS]))
            more = f" and {len(rows) - _MAX_NAMED_ROWS:,} more" if rows[_MAX_NAMED_ROWS:] else ""
            noun = "row" if len(rows) == 1 else "rows"
            lines.append(
                f"{place}, {noun} {named}{more}, column {column}: {self.why[column]}; taken as"
                " unknown"
            )
        return lines


class RowReader:
    """Reads the rows of a sheet.

    Attributes:
        oddities: cells that were not understood.
    """

    def __init__(self, sheet: Sheet) -> None:
        self.sheet = sheet
        self.oddities = Oddities()
        self._places = {
            column: place
            for column in (*COLUMNS, GONE)
            if (place := sheet.place_of(column)) is not None
        }
        self._columns = tuple(self._places)
        self._read_alone = [each for each in _READ_ALONE if each.name in self._places]
        self._cells_of = itemgetter(*self._places.values(), 0)  # one more, so that it is a tuple
        self._asked_order = False
        self._day_first: bool | None = None
        self._count = 0

    def entries(self) -> Iterator[CartRow | Unread]:
        """Yield every row that is not empty."""
        self._count = 0
        for row in self.sheet.rows():
            if isinstance(row, Issue):
                yield Unread(None, row)
                continue
            self._count += 1
            try:
                yield self._entry(row)
            except UsageError as error:
                yield Unread(row, Issue(f"{self.sheet.place}, row {row.number}", str(error)))

    def _entry(self, row: SheetRow) -> CartRow:
        cells = self._uncovered(row)
        try:
            taken = read_mark(cells.get("take", "yes"))
        except BadOption as error:
            raise _in_column("take", error) from None
        address, *mirrors = _BETWEEN_ADDRESSES.split(cells["url"])
        try:
            offer = self._offer(row, cells, address, mirrors)
        except BadAddress as error:
            raise _in_column("url", error) from None
        return CartRow(row, offer, taken, bool(cells.get(GONE)))

    def _uncovered(self, row: SheetRow) -> dict[str, str]:
        """Return the cells of a row by column; fast for the usual case."""
        written = self._cells_of(row.cells)
        line = "".join(written)
        if "'" not in line and line.isascii():
            return dict(zip(self._columns, map(str.strip, written), strict=False))
        cells = dict(zip(self._columns, map(uncover, written), strict=False))
        for column, cell in cells.items():
            if any("\udc80" <= character <= "\udcff" for character in cell):
                raise BadOption(f"column {column}", "is not UTF-8", "save the file as UTF-8")
        return cells

    def _offer(
        self, row: SheetRow, cells: dict[str, str], address: str, mirrors: list[str]
    ) -> Offer:
        size, about, about_within = self._size(row, cells.get("size", ""))
        name = cells.get("name") or None
        folder = cells.get("folder")
        return Offer(
            address=normalise(address),
            source=cells.get("source") or self.sheet.place,
            number=self._number(cells),
            name=name,
            # An empty folder next to a name means none; a row with an address alone says nothing.
            folder=folder if folder or name else None,
            size=size,
            about=about,
            about_within=about_within,
            size_is_hint=not cells.get("size", "").strip().isdigit(),  # someone wrote a unit
            modified=self._modified(row, cells.get("modified", "")),
            mirrors=tuple(map(normalise, mirrors)),
            **self._alone(cells),
        )

    def _alone(self, cells: dict[str, str]) -> dict[str, Any]:
        """Return the fields that depend on one cell each."""
        fields = {}
        for column in self._read_alone:
            if cell := cells[column.name]:
                try:
                    fields[column.offer_field] = column.read(cell)  # type: ignore[misc]  # it has one
                except BadOption as error:
                    raise _in_column(column.name, error) from None
        return fields

    def _number(self, cells: dict[str, str]) -> int:
        written = cells.get("number")
        if written is None:
            return self._count
        return read_count(written) or 0

    def _size(self, row: SheetRow, cell: str) -> tuple[int | None, int | None, int | None]:
        try:
            return read_bytes(cell)
        except BadOption as error:
            self.oddities.add("size", row.number, error)
            return None, None, None

    def _modified(self, row: SheetRow, cell: str) -> datetime | None:
        try:
            try:
                return read_date(cell, day_first=self._day_first)
            except BadOption:
                # Only who meets a date in doubt reads the others for what they tell.
                if self._asked_order:
                    raise
            self._asked_order = True
            self._day_first = is_day_first(self._dates())
            return read_date(cell, day_first=self._day_first)
        except BadOption as error:
            self.oddities.add("modified", row.number, error)
            return None

    def _dates(self) -> Iterator[str]:
        for row in self.sheet.rows():
            if isinstance(row, SheetRow):
                yield uncover(row.cells[self._places["modified"]])


def _in_column(column: str, error: UsageError) -> BadOption:
    return BadOption(f"column {column}, {error.thing}", error.reason, error.advice)


def read_sheet(
    sheet: Sheet, notes: list[str], *, left_out: bool = False
) -> Iterator[Offer | Issue]:
    """Read the taken offers of a sheet.

    Args:
        sheet: the table.
        left_out: whether to read those that are out instead.
        notes: extended with messages about unreadable cells.

    Yields:
        The offer in each row, or the problem with it.
    """
    reader = RowReader(sheet)
    for entry in reader.entries():
        if isinstance(entry, Unread):
            yield entry.trouble
        elif entry.taken is not left_out:
            yield entry.offer
    notes += reader.oddities.told(sheet.place)


def read_marked(
    cart: Path | Sheet, troubles: list[Issue], notes: list[str]
) -> Iterator[tuple[Offer, bool]]:
    """Read every offer in a cart's file, and whether it is taken.

    Args:
        cart: its path, or the sheet in it.
        troubles: lengthened by the rows that are not understood.
        notes: extended with messages about unreadable cells.

    Raises:
        UnreadableSource: it is not a cart.
    """
    reader = RowReader(cart if isinstance(cart, Sheet) else Sheet.at(cart))
    for entry in reader.entries():
        if isinstance(entry, Unread):
            troubles.append(entry.trouble)
        else:
            yield entry.offer, entry.taken
    notes += reader.oddities.told(reader.sheet.place)


def cells_of(
    offer: Offer, number: int, *, taken: bool, columns: Sequence[str] = COLUMNS
) -> list[str]:
    """Return an offer as a row of a cart.

    It has a cell for each of the columns, in the order of `COLUMNS`, covered, and without secrets.
    """
    cells = [column.write(offer) for column in _OF_OFFERS if column.name in columns]
    cells[_NUMBER] = str(number)
    return ["yes" if taken else "", *cells]


def write_table(
    offers: Iterable[tuple[Offer, bool]],
    to: SupportsWrite[str],
    columns: Sequence[str] = PLAIN_COLUMNS,
) -> None:
    """Write offers as a cart with the line ends of RFC 4180.

    Args:
        offers: each with whether it is taken.
        to: where; opened without translation of line ends.
        columns: the names of its columns, in the order of `COLUMNS`.
    """
    writer = csv.writer(to)
    writer.writerow(columns)
    writer.writerows(
        cells_of(offer, offer.number, taken=taken, columns=columns) for offer, taken in offers
    )
