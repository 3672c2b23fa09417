"""Tables on a page: the row and column of each link, and headings among the rows."""

from __future__ import annotations

from willow_cart.model import Cell
from willow_cart.sources.web_pages.elements import Element, words_of
from willow_cart.structs import Record, field
from willow_cart.units import read_count

# HTML, "Attributes common to td and th elements".
_MOST_COLUMNS, _MOST_ROWS = 1000, 65534


class _Table(Record):
    """The current position in a table.

    Attributes:
        titles: the headings of its columns.
        taken: for how many rows to come a cell from above takes up each column.
        number: of the last row that was none of headings.
        row: the last row; its cells with their columns, and how many links it has had.
        texts: the texts of its cells, with the headings of their columns; None until wanted.
    """

    titles: list[str] = field(default_factory=list)
    taken: dict[int, int] = field(default_factory=dict)
    number: int = 0
    row: Element | None = None
    columns: dict[Element, int] = field(default_factory=dict)
    links: int = 0
    texts: tuple[tuple[str, str], ...] | None = None


class Tables:
    """The positions of links in the tables of a page, visited in order."""

    def __init__(self) -> None:
        self._tables: dict[Element, _Table] = {}

    def enter(self, row: Element) -> str:
        """Enter a row; return its text if it is a heading for the rows below it."""
        outer = next(row.iterancestors("table"), None)
        if outer is None:
            return ""
        table = self._tables.setdefault(outer, _Table())
        table.row, table.columns, table.links = row, _columns_of(row, table), 0
        table.texts = None
        cells = list(table.columns)
        heading = _heading_in(cells)
        if len(cells) > 1 and all(cell.tag == "th" for cell in cells):
            table.titles = [""] * max(table.columns.values())
            for cell, column in table.columns.items():
                table.titles[column - 1] = words_of(cell)
        elif not heading and any(cell.tag == "td" for cell in cells):
            table.number += 1
        return heading

    def cell_of(self, link: Element) -> Cell | None:
        """Return the position of a link in the current row; None outside of it."""
        cell = next(link.iterancestors("td", "th"), None)
        outer = next(cell.iterancestors("table"), None) if cell is not None else None
        table = self._tables.get(outer) if outer is not None else None
        if cell is None or table is None or cell not in table.columns:
            return None
        table.links += 1
        column = table.columns[cell]
        title = table.titles[column - 1] if column <= len(table.titles) else ""
        if table.texts is None:
            table.texts = tuple(
                (table.titles[at - 1] if at <= len(table.titles) else "", words_of(each))
                for each, at in table.columns.items()
            )
        return Cell(table.number, table.links, column, title, table.texts)


def _columns_of(row: Element, table: _Table) -> dict[Element, int]:
    """Return the column of each cell as displayed (HTML, "Forming a table")."""
    columns: dict[Element, int] = {}
    reaching: dict[int, int] = {}
    column = 1
    for cell in row:
        if cell.tag not in ("td", "th"):
            continue
        while column in table.taken:
            column += 1
        columns[cell] = column
        width = _span(cell, "colspan", _MOST_COLUMNS)
        if (height := _span(cell, "rowspan", _MOST_ROWS)) > 1:
            reaching.update(dict.fromkeys(range(column, column + width), height))
        column += width
    if table.taken or reaching:
        taken = table.taken | reaching
        table.taken = {at: left - 1 for at, left in taken.items() if left > 1}
    return columns


def _heading_in(cells: list[Element]) -> str:
    """Return the text of a row's only cell if that is a heading without links."""
    if len(cells) != 1:
        return ""
    (cell,) = cells
    spans = _span(cell, "colspan", _MOST_COLUMNS) > 1
    if (cell.tag == "th" or spans) and next(cell.iter("a"), None) is None:
        return words_of(cell)
    return ""


def _span(cell: Element, attribute: str, most: int) -> int:
    text = cell.get(attribute)
    if text is None:
        return 1
    text = text.strip()
    return min(max(read_count(text) or 1, 1), most)
