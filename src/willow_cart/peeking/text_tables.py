"""Texts and text tables, such as CSV (RFC 4180)."""

from __future__ import annotations

import csv
from collections.abc import Iterator, Sequence
from itertools import islice

from willow_cart.checks.soft_failures import looks_like_page, title_of
from willow_cart.kinds import extension_of
from willow_cart.peeking.content import Content, Fact, PeekedColumn, Sample, Unreadable
from willow_cart.tables.column_types import TableColumn, strings
from willow_cart.tables.dialect import (
    Dialect,
    dialect_of,
    encoding_label,
    encoding_of,
    looks_like_table,
)
from willow_cart.tables.table_files import unique_names

_TABLES = frozenset({"csv", "tsv", "tab"})

# A line that is longer is shown with its beginning.
_MAX_LINE_CHARACTERS = 500


def look_at_text(sample: Sample, rows: int) -> Content:
    """Tell what a text is: a table, a web page, or lines."""
    beginning = _whole_lines(sample)
    extension = extension_of(sample.name)
    if looks_like_page(beginning):
        facts: dict[str, Fact] = {"title": title_of(beginning)} if title_of(beginning) else {}
        return Content("web page", facts, notes=["survey lists the files that it links to"])
    if extension in _TABLES or looks_like_table(beginning):
        return _table(sample, beginning, rows)
    return _lines(sample, beginning, rows)


def _whole_lines(sample: Sample) -> bytes:
    """Return the beginning up to the end of its last whole line."""
    if sample.is_whole:
        return sample.beginning
    end = sample.beginning.rfind(b"\n") + 1
    return sample.beginning[:end] or sample.beginning


def _table(sample: Sample, beginning: bytes, rows: int) -> Content:
    dialect = dialect_of(beginning)
    lines = beginning.decode(dialect.encoding, "replace").splitlines(keepends=True)
    reader = _rows_of(lines, dialect)
    header = next(reader, None)
    if header is None:
        return Content("empty table")
    try:
        names = unique_names(header)
    except ValueError as error:
        raise Unreadable(str(error)) from None
    body = [(row + [""] * len(names))[: len(names)] for row in reader]
    first = lines[0].encode(dialect.encoding, "replace")
    facts: dict[str, Fact] = {
        "format": str(dialect),
        "columns": len(names),
        **_count_of("rows", sample, len(body), len(beginning) - len(first)),
    }
    cells = zip(*body, strict=True) if body else [()] * len(names)
    columns = [
        PeekedColumn(name, _type_of(column, dialect))
        for name, column in zip(names, cells, strict=True)
    ]
    return Content("table", facts, columns, body[:rows], "row")


def _rows_of(lines: Sequence[str], dialect: Dialect) -> Iterator[list[str]]:
    """Yield the rows that say anything, up to one that cannot be read."""
    try:
        for row in csv.reader(lines, delimiter=dialect.delimiter):
            if any(row):
                yield row
    except csv.Error:
        return  # a cell that is cut in two, or one as long as no table has


def _type_of(cells: Sequence[str], dialect: Dialect) -> str:
    column = TableColumn(dialect.decimal)
    column.look_at(strings(cells))
    return str(column.type)


def _count_of(what: str, sample: Sample, count: int, bytes_of_all: int) -> dict[str, Fact]:
    """Return the number of rows or lines, or an estimate by the length of those that are here."""
    if sample.is_whole:
        return {what: count}
    if sample.length is None or not count:
        return {}
    each = max(1.0, bytes_of_all / count)
    return {f"{what} (estimated)": round(sample.length / each)}


def _lines(sample: Sample, beginning: bytes, rows: int) -> Content:
    encoding = encoding_of(beginning)
    lines = beginning.decode(encoding, "replace").splitlines()
    count = _count_of("lines", sample, len(lines), len(beginning))
    shown = [[line[:_MAX_LINE_CHARACTERS]] for line in islice(lines, rows)]
    return Content(
        "text",
        {"encoding": encoding_label(encoding), **count},
        [PeekedColumn("line")],
        shown,
        "line",
    )
