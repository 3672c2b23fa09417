"""Combine many tables into one, in two passes and with little memory.

The first pass reads every table whole, to settle what each column holds; a table that cannot be
read to its end is reported then, and nothing of it is written. The second one writes.
"""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from willow_cart.errors import BadOption, NoTable, TablesDiffer
from willow_cart.model import Issue
from willow_cart.structs import Record
from willow_cart.tables.column_types import TableColumn, as_written, convert, strings
from willow_cart.tables.combined import ColumnSummary, Combined, Combining, Type
from willow_cart.tables.ordinary_text import NotOrdinary, read_ordinary
from willow_cart.tables.output import SOURCE, Output, rows_of
from willow_cart.tables.table_files import Reading, TableFile, dialect_by_beginning
from willow_cart.tables.table_rows import read_rows
from willow_cart.units import count_of

THOUSANDS = {"comma": ",", "point": ".", "space": " \u00a0\u202f\u2009", "apostrophe": "'\u2019"}
"""The marks between thousands, by their names."""

_DECIMALS = {"comma": ".", "point": ","}

_DAY_FIRST = r"^\s*(\d{1,2})[./-](\d{1,2})[./-](\d{4})((?:[ T]\d.*)?)\s*$"


def decimal_for(thousands: str, detected: str) -> str:
    """Return the decimal mark of numbers, which is never that between thousands."""
    return _DECIMALS.get(thousands, detected)


def tidied(cells: pa.Array, *, day_first: bool, thousands: str, decimal: str) -> pa.Array:
    """Return cells with dates in ISO 8601 and without marks between thousands.

    What is neither stays as it is.

    Args:
        cells: strings.
        day_first: whether dates are written as day, month and year.
        thousands: the name of the mark; empty for none.
        decimal: the mark in numbers.
    """
    if day_first:
        cells = pc.replace_substring_regex(cells, _DAY_FIRST, r"\3-\2-\1\4")
        cells = pc.replace_substring_regex(cells, r"^(\d{4})-(\d)-", r"\1-0\2-")
        cells = pc.replace_substring_regex(cells, r"^(\d{4}-\d{2})-(\d)($|[ T])", r"\1-0\2\3")
    if thousands:
        marks = f"[{THOUSANDS[thousands]}]"
        fraction = rf"(?:\{decimal}\d+)?"
        is_number = pc.match_substring_regex(
            cells, rf"^\s*[+-]?\d{{1,3}}(?:{marks}\d{{3}})+{fraction}\s*$"
        )
        cells = pc.if_else(is_number, pc.replace_substring_regex(cells, marks, ""), cells)
    return cells


_MAX_FIRST_ROWS = 5

# Tables of one kind that have changed over the years share more of their columns.
_MIN_SHARED = 0.5


class _Seen(Record):
    """A table after the first pass.

    Attributes:
        file: where it is.
        reading: how it is written.
        columns: the facts about its columns, constant ones last.
        is_ordinary: whether the library reads it.
    """

    file: TableFile
    reading: Reading
    columns: list[TableColumn]
    is_ordinary: bool

    def read_again(self, skip: int) -> Iterator[Reading | pa.RecordBatch]:
        """Read it for the second time."""
        dialect = self.reading.dialect
        if self.is_ordinary and dialect is not None:
            return read_ordinary(self.file, skip, dialect)
        return read_rows(self.file, skip, dialect)

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
        files: the tables; their names distinguish them.
        output: where they go; open.
        unreadable: what is known already not to be readable, among the troubles of the result.
        progress: called with the name of every file that is read.

    Raises:
        TablesDiffer: their columns differ, and are not to.
        BadOption: a column that is requested is in none of them.
        NoTable: the existing file was not written by combine.
    """
    combined = Combined(troubles=[*unreadable])
    seen, before = _read_all([*files], output, wish, combined, progress)
    combined.files = len(seen)
    if combined.troubles and not seen:
        return combined  # there is nothing to write, and what is there stays
    combined.dialects.update(str(each.reading.dialect or "workbook") for each in seen)
    names = _names_of(seen, wish, before, combined)
    types, spoilers = _types_of(seen, names)
    if spoilers and wish.strict:
        raise TablesDiffer(spoilers[0], *_how_to_allow(spoilers))
    combined.notes += spoilers
    widened = _widened(seen, before, output)
    types = {name: type_.together(widened.get(name, type_)) for name, type_ in types.items()}
    whole = output.begin({SOURCE: Type.TEXT, **types}, [each.file.name for each in seen])
    combined.kept = output.kept
    combined.notes += [
        f"{output.path}: {name} was {type_} before, and is {whole[name]} from now on{absent}"
        for absent in [_also_for_absent(output)]
        for name, type_ in widened.items()
    ]
    combined.notes += _perhaps_moved(output, seen)
    spelled = {name.casefold(): name for name in whole}
    combined.columns = {name: ColumnSummary(type_) for name, type_ in whole.items()}
    for each in seen:
        progress(each.file.name)
        rows = 0
        for batch, text in _written(each, wish, whole, spelled):
            output.write(text if output.keeps_text else batch)
            rows += batch.num_rows
            _count_in(combined, batch)
        output.note(each.file, wish.mark, rows)
    return combined


def _read_all(
    files: Sequence[TableFile],
    output: Output,
    wish: Combining,
    combined: Combined,
    progress: Callable[[str], None],
) -> tuple[list[_Seen], dict[str, Type]]:
    """Read the tables that are not in the output as they are; count the others.

    If a column cannot hold further rows as it is, those are read as well: what was stored of them
    is not what is written in their files.

    Returns:
        The tables that were read, and the existing columns.
    """
    output.claim_moved(files)
    seen: list[_Seen] = []
    unchanged = [file for file in files if output.knows(file, wish.mark)]
    known = {file.name for file in unchanged}

    def look_through(some: Iterable[TableFile]) -> None:
        for file in some:
            progress(file.name)
            try:
                seen.append(_look_through(file, wish))
            except NoTable as error:
                combined.troubles.append(Issue(error.thing, error.why))

    look_through(file for file in files if file.name not in known)
    before = output.before() if seen or not combined.troubles else {}
    if unchanged and _widened(seen, before, output):
        look_through(unchanged)
        unchanged = []
    combined.unchanged = len(unchanged)
    return seen, before


def _widened(seen: Sequence[_Seen], before: Mapping[str, Type], output: Output) -> dict[str, Type]:
    """Return the existing columns that cannot hold the new rows as they are, with their types."""
    types = {name.casefold(): name for name in before}
    found: dict[str, Type] = {}
    for each in seen:
        for own, column in zip(each.names, each.columns, strict=True):
            name = types.get(own.casefold())
            known = before[name] if name is not None else Type.EMPTY
            if name is None or known is Type.EMPTY or name in found:
                continue
            whole = known.together(column.type)
            if whole is not known and (whole, known) != (Type.LONG, Type.INTEGER):
                found[name] = known
    # A whole number that no REAL holds makes a column of both text.
    return {
        name: Type.LONG if known is Type.INTEGER and output.holds_long(name) else known
        for name, known in found.items()
    }


def _also_for_absent(output: Output) -> str:
    """Return what to add about rows whose files cannot be read once more; empty for none."""
    if not output.kept:
        return ""
    return f", also in {count_of(output.kept, 'row')} of files that are not here any more"


def _perhaps_moved(output: Output, seen: Sequence[_Seen]) -> Iterator[str]:
    """Yield a note on kept rows of a file whose name is now that of a file elsewhere."""
    names: dict[str, _Seen] = {each.file.name.rpartition("/")[2]: each for each in seen}
    for source, rows in output.kept_of.items():
        now = names.get(source.rpartition("/")[2])
        if now is None or not now.file.place or os.path.lexists(f"{now.file.place}/{source}"):
            continue
        yield (
            f"{output.path}: {count_of(rows, 'row')} of {source}, which is not here any more, were"
            f" kept; if it is {now.file.name} now, start over with --start-over"
        )


def _look_through(file: TableFile, wish: Combining) -> _Seen:
    """Read a whole table, and determine the types of its columns.

    Raises:
        NoTable: it cannot be.
    """
    if file.sheet:
        return _settle(file, read_rows(file, wish.skip), wish, is_ordinary=False)
    dialect = dialect_by_beginning(file, wish.skip, wish.encoding)
    try:
        return _settle(file, read_ordinary(file, wish.skip, dialect), wish, is_ordinary=True)
    except NotOrdinary:
        rows = read_rows(file, wish.skip, encoding=wish.encoding)
        return _settle(file, rows, wish, is_ordinary=False)


def _settle(
    file: TableFile,
    parts: Iterator[Reading | pa.RecordBatch],
    wish: Combining,
    *,
    is_ordinary: bool,
) -> _Seen:
    """Read a whole table, and determine the types of its columns."""
    reading = next(parts)
    assert isinstance(reading, Reading), "it comes first"
    decimal = _decimal_of(reading, wish)
    columns = [TableColumn(decimal) for _ in reading.header]
    for batch in parts:
        assert isinstance(batch, pa.RecordBatch), "rows come behind it"
        for column, cells in zip(columns, batch, strict=True):
            column.look_at(_tidied(cells, wish, decimal))
    for value in file.parts.values():
        columns.append(TableColumn())
        columns[-1].look_at(strings([value]))
    return _Seen(file, reading, columns, is_ordinary)


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
    for each in seen:
        own = {name.casefold() for name in each.reading.header}
        for name in each.file.parts:
            if name.casefold() in own:
                why = f"{each.file.name} has a column of that name already"
                raise BadOption(f"--name-parts: {name}", why, "name the group otherwise")
    if not (wish.mixed or wish.columns):
        _require_alike(seen, usual)
    differing = [note for each in seen if (note := _difference(each, usual, spelled))]
    if differing and wish.strict:
        raise TablesDiffer(differing[0], *_more(differing))
    combined.notes += differing
    combined.notes += [
        f"{each.file.name}: {count_of(each.reading.short, 'row')} shorter than the header; filled"
        " with empty cells"
        for each in seen
        if each.reading.short
    ]
    return (
        _wanted(wish.columns, spelled)
        if wish.columns and seen
        else list(wish.columns or spelled.values())
    )


def _wanted(columns: Sequence[str], spelled: Mapping[str, str]) -> list[str]:
    """Return the columns that are requested, as the tables spell them.

    Raises:
        BadOption: one is in none of the tables.
    """
    for name in columns:
        if name.casefold() not in spelled:
            known = ", ".join(spelled.values())
            raise BadOption(f"--columns {name}", "not a column of the tables", f"there are {known}")
    return [spelled[name.casefold()] for name in columns]


def _require_alike(seen: Sequence[_Seen], usual: set[str]) -> None:
    """Refuse a table that has hardly a column of the others: it is of another kind, or an error.

    Raises:
        TablesDiffer: there is one.
    """
    for each in seen:
        shared = sum(name.casefold() in usual for name in each.names)
        if shared < _MIN_SHARED * len(usual):
            raise TablesDiffer(
                each.file.name,
                f"has {shared:,} of the {len(usual):,} columns of the other tables",
                "leave it out with --drop, or give --mixed to take it",
            )


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


def _types_of(seen: Sequence[_Seen], names: Sequence[str]) -> tuple[dict[str, Type], list[str]]:
    """Return the types of the columns of the combined table, and notes on exceptional cells."""
    types = dict.fromkeys(names, Type.EMPTY)
    wanted = {name.casefold(): name for name in names}
    by_name: dict[str, list[tuple[_Seen, TableColumn]]] = {name: [] for name in names}
    for each in seen:
        for own, column in zip(each.names, each.columns, strict=True):
            if (name := wanted.get(own.casefold())) is not None:
                types[name] = types[name].together(column.type)
                by_name[name].append((each, column))
    texts = [name for name, type_ in types.items() if type_ is Type.TEXT]
    return types, [note for name in texts for note in _spoilers(name, by_name[name])]


def _spoilers(name: str, columns: Sequence[tuple[_Seen, TableColumn]]) -> Iterator[str]:
    """Yield the cells that made a column text although most of it has another type."""
    kinds = Counter(_usual(column) for _, column in columns if column.type is not Type.EMPTY)
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


def _usual(column: TableColumn) -> Type:
    """Return the type of most cells of a column."""
    return column.type if column.turned_from is Type.EMPTY else column.turned_from


def _how_to_allow(spoilers: Sequence[str]) -> tuple[str, str]:
    others = count_of(len(spoilers) - 1, "column")
    more = f"and {others} more are text for the sake of a cell" if len(spoilers) > 1 else "refused"
    return more, "correct the cell, or leave out --strict"


def _written(
    each: _Seen, wish: Combining, whole: dict[str, Type], spelled: dict[str, str]
) -> Iterator[tuple[pa.RecordBatch, pa.RecordBatch]]:
    """Yield the rows of a table in batches, with the columns of the combined table.

    The first of two batches has values of their types, the second the cells as they are written.

    Raises:
        NoTable: it has changed since the first pass.
    """
    parts = each.read_again(wish.skip)
    try:
        next(parts)
        for batch in parts:
            assert isinstance(batch, pa.RecordBatch), "rows come behind the reading"
            cells = _by_name(each, batch, spelled)
            empty = strings([""] * batch.num_rows)
            texts, values = [], []
            for name, type_ in whole.items():
                decimal = _decimal_of(each.reading, wish)
                text = cells.get(name, empty)
                if type_ is not Type.TEXT:  # a text stays as it was written
                    text = _tidied(text, wish, decimal)
                values.append(convert(text, type_, decimal))
                texts.append(as_written(text, type_, decimal))
            yield pa.record_batch(values, [*whole]), pa.record_batch(texts, [*whole])
    except (NotOrdinary, pa.ArrowInvalid):
        why = "changed while it was read"
        raise NoTable(each.file.name, why, "run the command again") from None


def _by_name(each: _Seen, batch: pa.RecordBatch, spelled: dict[str, str]) -> dict[str, pa.Array]:
    """Return the cells of a batch, and the values that are the same in all rows."""
    own = [spelled.get(name.casefold(), name) for name in each.names]
    fixed = [*each.file.parts.values()]
    constant = [strings([value] * batch.num_rows) for value in [*fixed, each.file.name]]
    return dict(zip([*own, SOURCE], [*batch.columns, *constant], strict=True))


def _decimal_of(reading: Reading, wish: Combining) -> str:
    """Return the decimal mark of a table."""
    detected = reading.dialect.decimal if reading.dialect else "."
    return decimal_for(wish.thousands, detected)


def _tidied(cells: pa.Array, wish: Combining, decimal: str) -> pa.Array:
    if not (wish.day_first or wish.thousands):
        return cells
    return tidied(cells, day_first=wish.day_first, thousands=wish.thousands, decimal=decimal)


def _count_in(combined: Combined, batch: pa.RecordBatch) -> None:
    """Count the cells of a batch in the summaries of their columns."""
    combined.rows += batch.num_rows
    for summary, cells in zip(combined.columns.values(), batch, strict=True):
        summary.empty += cells.null_count
        summary.filled += len(cells) - cells.null_count
        if summary.type not in (Type.TEXT, Type.EMPTY):
            found: Mapping[str, Any] = pc.min_max(cells).as_py()
            if found["min"] is not None:
                least, greatest = summary.least, summary.greatest
                summary.least = found["min"] if least is None else min(least, found["min"])
                summary.greatest = found["max"] if greatest is None else max(greatest, found["max"])
    missing = _MAX_FIRST_ROWS - len(combined.first)
    if missing > 0:
        combined.first += rows_of(batch.slice(0, missing))
