"""Combine many tables into one, in two passes and with little memory.

The first pass reads every table whole, to settle what each column holds; a table that cannot be
read to its end is reported then, and nothing of it is written. The second one writes.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

from willow_cart.errors import BadOption, NoTable, TablesDiffer
from willow_cart.exits import Exit
from willow_cart.model import Issue
from willow_cart.tables.output import SOURCE, Output
from willow_cart.tables.table_files import Reading, TableFile, read_rows
from willow_cart.tables.types import TableColumn, Type, Value, convert
from willow_cart.units import count_of

_MAX_FIRST_ROWS = 5


@dataclass(frozen=True, slots=True)
class Combining:
    """How to combine tables.

    Attributes:
        skip: how many lines come before the header of each.
        columns: which columns, in this order. Empty takes all.
        strict: whether tables whose columns differ are refused.
    """

    skip: int = 0
    columns: tuple[str, ...] = ()
    strict: bool = False

    @property
    def mark(self) -> str:
        """Return an identifier of these settings, for rows that exist already."""
        return json.dumps([self.skip, self.columns])


@dataclass(slots=True)
class ColumnSummary:
    """A summary of a column of the combined table.

    Attributes:
        type: what it holds.
        filled: how many cells say something.
        empty: how many do not.
        least, greatest: of its numbers or times; None for text.
    """

    type: Type
    filled: int = 0
    empty: int = 0
    least: Value = None
    greatest: Value = None

    def add(self, cells: Sequence[Value]) -> None:
        """Count cells."""
        empty = cells.count(None)
        said = [cell for cell in cells if cell is not None] if empty else [*cells]
        self.filled += len(said)
        self.empty += empty
        if said and self.type not in (Type.TEXT, Type.EMPTY):
            values: list[Any] = said  # all are of one type
            if self.least is not None:
                values += [self.least, self.greatest]
            self.least, self.greatest = min(values), max(values)


@dataclass(slots=True)
class Combined:
    """The result of combining tables.

    Attributes:
        files: how many tables were read.
        unchanged: how many were in it already, as they are.
        rows: how many rows were written.
        kept: how many rows of other files, or of unchanged ones, stay in it.
        columns: what was written, by the names of columns.
        first: the first rows that were.
        dialects: how the tables are written, and how many are so.
        notes: what should be known: columns that differ, columns that are text for one cell's sake.
        troubles: tables that could not be read, and are not in it.
    """

    files: int = 0
    unchanged: int = 0
    rows: int = 0
    kept: int = 0
    columns: dict[str, ColumnSummary] = field(default_factory=dict)
    first: list[Sequence[Value]] = field(default_factory=list)
    dialects: Counter[str] = field(default_factory=Counter)
    notes: list[str] = field(default_factory=list)
    troubles: list[Issue] = field(default_factory=list)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.troubles else Exit.GOOD


@dataclass(slots=True)
class _Seen:
    """A table after the first pass."""

    file: TableFile
    reading: Reading
    columns: list[TableColumn]

    @property
    def names(self) -> list[str]:
        """Return its columns, constant ones last."""
        return [*self.reading.header, *self.file.parts]


def combine(
    files: Iterable[TableFile],
    output: Output,
    wish: Combining,
    *,
    unreadable: Iterable[Issue] = (),
    progress: Callable[[str], None] = lambda _: None,
) -> Combined:
    """Combine tables.

    Args:
        files: the tables; their names tell them apart.
        output: where they go; open.
        wish: the settings.
        unreadable: what is known already not to be readable, among the troubles of the result.
        progress: called with the name of every file that is read.

    Raises:
        TablesDiffer: their columns differ, and are not to.
        BadOption: a column that is requested is in none of them.
        NoTable: what is there was not put together here.
    """
    combined = Combined(troubles=[*unreadable])
    seen = []
    for file in files:
        if output.knows(file, wish.mark):
            combined.unchanged += 1
            continue
        progress(file.name)
        try:
            seen.append(_look_through(file, wish))
        except NoTable as error:
            combined.troubles.append(Issue(error.thing, error.why))
    combined.files = len(seen)
    if combined.troubles and not seen:
        return combined  # there is nothing to write, and what is there stays
    combined.dialects.update(str(each.reading.dialect or "workbook") for each in seen)
    before = output.before()
    names = _names_of(seen, wish, before, combined)
    types = _types_of(seen, names, combined)
    whole = output.begin({SOURCE: Type.TEXT, **types}, [each.file.name for each in seen])
    combined.kept = output.kept
    combined.notes += [
        f"{output.path}: {name} was {type_} before, and is {whole[name]} from now on"
        for name, type_ in before.items()
        if type_ is not Type.EMPTY and whole[name] is not type_
    ]
    spelled = {name.casefold(): name for name in whole}
    combined.columns = {name: ColumnSummary(type_) for name, type_ in whole.items()}
    for each in seen:
        progress(each.file.name)
        rows = 0
        for batch in _written(each, wish, whole, spelled):
            output.write(batch)
            rows += len(batch[0])
            _count_in(combined, batch)
        output.note(each.file, wish.mark, rows)
    return combined


def _look_through(file: TableFile, wish: Combining) -> _Seen:
    """Read a whole table, and determine the types of its columns.

    Raises:
        NoTable: it cannot be.
    """
    parts = read_rows(file, wish.skip)
    reading = next(parts)
    assert isinstance(reading, Reading), "it comes first"
    decimal = reading.dialect.decimal if reading.dialect else "."
    columns = [TableColumn(decimal) for _ in reading.header]
    for batch in parts:
        assert isinstance(batch, list), "rows come behind it"
        for column, cells in zip(columns, zip(*batch, strict=True), strict=True):
            column.look_at(cells)
    for value in file.parts.values():
        columns.append(TableColumn())
        columns[-1].look_at([value])
    return _Seen(file, reading, columns)


def _names_of(
    seen: Sequence[_Seen], wish: Combining, before: Iterable[str], combined: Combined
) -> list[str]:
    """Return the columns of the combined table; record tables with different ones.

    Raises:
        TablesDiffer, BadOption: as `combine` does.
    """
    usual = _usual_names(seen, before)
    spelled: dict[str, str] = {}
    for each in seen:
        for name in each.names:
            spelled.setdefault(name.casefold(), name)
    if SOURCE in spelled:
        raise BadOption(SOURCE, "is already a column of the tables", "rename it there")
    differing = [note for each in seen if (note := _difference(each, usual, spelled))]
    if differing and wish.strict:
        raise TablesDiffer(differing[0], *_more(differing))
    combined.notes += differing
    for each in seen:
        if each.reading.short:
            rows = count_of(each.reading.short, "row")
            combined.notes.append(
                f"{each.file.name}: {rows} shorter than the header; filled with empty cells"
            )
    if not wish.columns:
        return list(spelled.values())
    for name in wish.columns:
        if seen and name.casefold() not in spelled:
            known = ", ".join(spelled.values())
            raise BadOption(f"--columns {name}", "not a column of the tables", f"there are {known}")
    return [spelled.get(name.casefold(), name) for name in wish.columns]


def _usual_names(seen: Sequence[_Seen], before: Iterable[str]) -> set[str]:
    """Return the columns that a table should have.

    They are those that are there already, or those of most tables.
    """
    usual = {name.casefold() for name in before if name != SOURCE}
    if seen and not usual:
        headers = Counter(tuple(map(str.casefold, each.names)) for each in seen)
        usual = set(headers.most_common(1)[0][0])
    return usual


def _more(differing: Sequence[str]) -> tuple[str, str]:
    if len(differing) == 1:
        return (
            "the other tables have different columns",
            "leave out --strict to fill missing columns",
        )
    return (
        f"and {count_of(len(differing) - 1, 'table')} more differ from the others",
        "leave out --strict to fill missing columns",
    )


def _difference(each: _Seen, usual: set[str], spelled: dict[str, str]) -> str:
    """Describe how a table differs from most; empty if it does not."""
    own = set(map(str.casefold, each.names))
    lacks = [spelled.get(name, name) for name in usual if name not in own]
    besides = [name for name in each.names if name.casefold() not in usual]
    said = []
    if lacks:
        said.append(f"lacks {', '.join(sorted(lacks))}")
    if besides:
        said.append(f"has {', '.join(besides)} besides")
    return f"{each.file.name}: {' and '.join(said)}" if said else ""


def _types_of(seen: Sequence[_Seen], names: Sequence[str], combined: Combined) -> dict[str, Type]:
    """Return the types of the columns of the combined table; record exceptional cells."""
    types = dict.fromkeys(names, Type.EMPTY)
    wanted = {name.casefold(): name for name in names}
    by_name: dict[str, list[tuple[_Seen, TableColumn]]] = {name: [] for name in names}
    for each in seen:
        for own, column in zip(each.names, each.columns, strict=True):
            if (name := wanted.get(own.casefold())) is not None:
                types[name] = types[name].together(column.type)
                by_name[name].append((each, column))
    for name, type_ in types.items():
        if type_ is Type.TEXT:
            combined.notes += _spoilers(name, by_name[name])
    return types


def _spoilers(name: str, columns: Sequence[tuple[_Seen, TableColumn]]) -> Iterator[str]:
    """Yield the cells that made a column text although it has another type in most tables."""
    kinds = Counter(column.type for _, column in columns if column.type is not Type.EMPTY)
    usual, count = kinds.most_common(1)[0]
    if usual is Type.TEXT or count * 2 <= kinds.total():
        return
    for each, column in columns:
        if column.type.together(usual) is Type.TEXT:
            if column.type is Type.TEXT and column.turned_at:
                cell = column.turned_by
                why = f"holds {cell!r} in row {column.turned_at:,}"
            else:
                why = f"holds {column.type}"
            yield f"{each.file.name}: {name} {why}, so the whole column is text, not {usual}"
            return


def _written(
    each: _Seen, wish: Combining, whole: dict[str, Type], spelled: dict[str, str]
) -> Iterator[list[Sequence[Value]]]:
    """Yield the rows of a table in batches, as lists of values per column."""
    dialect = each.reading.dialect
    decimal = dialect.decimal if dialect else "."
    places = {spelled.get(name.casefold()): place for place, name in enumerate(each.names)}
    fixed = list(each.file.parts.values())
    parts = read_rows(each.file, wish.skip, dialect)
    next(parts)
    for batch in parts:
        assert isinstance(batch, list), "rows come behind the header"
        cells = [*zip(*batch, strict=True)]
        columns: list[Sequence[Value]] = []
        for name, type_ in whole.items():
            place = places.get(name)
            if name == SOURCE:
                columns.append([each.file.name] * len(batch))
            elif place is None:
                columns.append([None] * len(batch))
            elif place >= len(cells):
                columns.append(convert(fixed[place - len(cells) :][:1], type_, ".") * len(batch))
            else:
                columns.append(convert(cells[place], type_, decimal))
        yield columns


def _count_in(combined: Combined, batch: Sequence[Sequence[Value]]) -> None:
    combined.rows += len(batch[0])
    for told, cells in zip(combined.columns.values(), batch, strict=True):
        told.add(cells)
    combined.first += islice(zip(*batch, strict=True), _MAX_FIRST_ROWS - len(combined.first))
