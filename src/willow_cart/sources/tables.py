"""Tables on a page: which row and column a link stands in, and the headings among the rows."""

from __future__ import annotations

from willow_cart.model import Cell
from willow_cart.sources.elements import Element, words_of

# HTML, "Attributes common to td and th elements".
_MOST_COLUMNS, _MOST_ROWS = 1000, 65534


def heading_in(row: Element) -> str:
    """The words of a row that is one heading for those below it; empty for any other row."""
    cells = [cell for cell in row if cell.tag in ("th", "td")]
    if len(cells) != 1:
        return ""
    (cell,) = cells
    spans = _span(cell, "colspan", _MOST_COLUMNS) > 1
    if (cell.tag == "th" or spans) and next(cell.iter("a"), None) is None:
        return words_of(cell)
    return ""


class Tables:
    """Where in the tables of one page links stand; each table is gone through once."""

    def __init__(self) -> None:
        self._rows: dict[Element, tuple[int, dict[Element, int], list[str]]] = {}
        self._links: dict[Element, int] = {}
        self._known: set[Element] = set()

    def cell_of(self, element: Element) -> Cell | None:
        """Where in a table an element stands; links have to be asked about in their order."""
        cell = next(element.iterancestors("td", "th"), None)
        row = cell.getparent() if cell is not None else None
        if cell is None or row is None:
            return None
        if row not in self._rows:
            table = next(row.iterancestors("table"), None)
            if table is None or table in self._known:
                return None
            self._known.add(table)
            self._go_through(table)
            if row not in self._rows:
                return None
        number, columns, titles = self._rows[row]
        self._links[row] = self._links.get(row, 0) + 1
        column = columns[cell]
        title = titles[column - 1] if column <= len(titles) else ""
        return Cell(number, self._links[row], column, title)

    def _go_through(self, table: Element) -> None:
        """Number the rows and columns of a table as they are drawn (HTML, "Forming a table")."""
        titles: list[str] = []
        taken: dict[int, int] = {}  # rows that a cell from above still takes up, by column
        number = 0
        for row in _own_rows(table):
            cells = [cell for cell in row if cell.tag in ("td", "th")]
            columns: dict[Element, int] = {}
            reaching: dict[int, int] = {}
            column = 1
            for cell in cells:
                while column in taken:
                    column += 1
                columns[cell] = column
                width = _span(cell, "colspan", _MOST_COLUMNS)
                height = _span(cell, "rowspan", _MOST_ROWS)
                if height > 1:
                    reaching.update(dict.fromkeys(range(column, column + width), height))
                column += width
            if len(cells) > 1 and all(cell.tag == "th" for cell in cells):
                titles = [""] * (column - 1)
                for cell, at in columns.items():
                    titles[at - 1] = words_of(cell)
            elif any(cell.tag == "td" for cell in cells) and not heading_in(row):
                number += 1
            self._rows[row] = (number, columns, titles)
            taken = {at: left - 1 for at, left in (taken | reaching).items() if left > 1}


def _own_rows(table: Element) -> list[Element]:
    """The rows of a table, without those of tables inside it."""
    rows = []
    for child in table:
        if child.tag == "tr":
            rows.append(child)
        elif child.tag in ("thead", "tbody", "tfoot"):
            rows += [row for row in child if row.tag == "tr"]
    return rows


def _span(cell: Element, attribute: str, most: int) -> int:
    text = (cell.get(attribute) or "1").strip()
    return min(max(int(text), 1), most) if text.isascii() and text.isdigit() else 1
