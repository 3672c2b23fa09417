"""Print the folders of offers with their counts and sizes: as a table, JSON or CSV."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from functools import partial
from typing import NamedTuple

from willow_cart.cart.folder_tree import FolderTree
from willow_cart.cli.render import Showing, Totals, show_total, written
from willow_cart.cli.screen import show_csv, show_table, show_text
from willow_cart.commands.discovering import OfferFinder
from willow_cart.model import Sizes
from willow_cart.units import json_text


class _Row(NamedTuple):
    """A folder as it is printed, with everything below it."""

    path: str
    sizes: Sizes
    newest: datetime | None


class AsFolders(Showing):
    """Output as a list of folders.

    Args:
        levels: how many levels are shown; None for all.
        form: `json` or `csv`; empty for a table.
    """

    def __init__(self, levels: int | None, form: str) -> None:
        self._levels = levels
        self._form = form

    def show(self, finder: OfferFinder) -> None:
        """Collect the folders, then print them."""
        totals, trees = Totals(), dict[str, FolderTree]()
        for offer, dropped_by in finder.judged():
            if not dropped_by:
                totals.add(offer)
                trees.setdefault(offer.source, FolderTree()).add(offer)
        if not trees:
            return
        rows = list(self._rows(trees))
        if self._form == "json":
            show_text(json_text([*map(_as_json, rows)], indent=1))
        elif self._form == "csv":
            names = ("folder", "files", "bytes_known", "bytes_about", "sizes_unknown", "newest")
            show_csv([names, *(_as_json(row).values() for row in rows)])
        else:
            _show(rows)
            show_total(finder, totals)

    def _rows(self, trees: dict[str, FolderTree]) -> Iterator[_Row]:
        for source, tree in trees.items():
            sums, newest = tree.sums(), tree.newest()
            # Several sources may have folders of the same names.
            above = f"{source}: " if len(trees) > 1 else ""
            for number in tree.walk(enters=partial(self._goes_below, tree)):
                yield _Row(f"{above}{tree.path_of(number) or './'}", sums[number], newest[number])

    def _goes_below(self, tree: FolderTree, number: int) -> bool:
        return self._levels is None or tree.depths[number] < self._levels


def _show(rows: list[_Row]) -> None:
    cells = [
        [
            row.path,
            f"{row.sizes.files:,}",
            written(row.sizes),
            f"{row.newest:%Y-%m-%d %H:%M}" if row.newest else "",
        ]
        for row in rows
    ]
    columns = ["folder", "files", "size", "newest"]
    if not any(row.newest for row in rows):
        columns, cells = columns[:-1], [each[:-1] for each in cells]
    show_table(columns, cells, numeric=("files", "size"))


def _as_json(row: _Row) -> dict[str, object]:
    return {
        "folder": row.path,
        "files": row.sizes.files,
        "bytes_known": row.sizes.exact,
        "bytes_about": row.sizes.about,
        "sizes_unknown": row.sizes.unknown,
        "newest": row.newest.isoformat() if row.newest else None,
    }
