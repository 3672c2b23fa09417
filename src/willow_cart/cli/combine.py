"""`combine`: put tables together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cart import Cart
from willow_cart.choosing.patterns import on_path
from willow_cart.cli.screen import show_line, show_table
from willow_cart.cli.telling import tell, tell_each
from willow_cart.errors import BadOption, nothing_there
from willow_cart.exits import Exit
from willow_cart.filing.templates import parts_of_names
from willow_cart.holdings import holdings_at
from willow_cart.jobs.combine import CombineRequest
from willow_cart.jobs.looking_policies import make_choosing
from willow_cart.redaction import without_secrets
from willow_cart.tables import Combining, TableFile, combine
from willow_cart.tables.outputs import NoOutput, output_for, require_form
from willow_cart.tables.reading import is_table, sheets_of
from willow_cart.units import count_of

if TYPE_CHECKING:
    from willow_cart.holdings import Holding
    from willow_cart.tables import Combined


# So much of a cell is shown.
_WIDEST = 28


def run(request: CombineRequest) -> int:
    """Put tables together, and say what came of it."""
    to = None if request.preview else request.to
    if to is None and not request.preview:
        raise BadOption("--to", "is missing", "name a file, or look first with --preview")
    columns = tuple(name.strip() for name in request.columns.split(",") if name.strip())
    wish = Combining(request.skip_lines, columns, strict=request.strict)
    if request.to is not None:
        require_form(request.to, request.table)  # a slip is told before any work is done
    files = _tables(request)
    output = (
        NoOutput(Path())
        if to is None
        else output_for(to, request.table, anew=request.anew, overwrite=request.overwrite)
    )
    with output:
        combined = combine(files, output, wish)
    tell_each(combined.troubles)
    for note in combined.notes:
        tell(note)
    _show(combined, to)
    return Exit.INCOMPLETE if combined.troubles else Exit.GOOD


def _tables(request: CombineRequest) -> list[TableFile]:
    """The tables that are chosen.

    Raises:
        NothingChosen: there are none.
    """
    choosing = make_choosing(request)
    # Who says what to take may mean a table by any name.
    named = bool(choosing.keep or choosing.keep_re or choosing.extensions or choosing.numbers)
    found = {each.offer: each for each in _candidates(request, any_name=named)}
    if not found:
        raise nothing_there(", ".join(map(str, request.places)), "table")
    choice = choosing.choose(found)
    choice.require_some()
    chosen = [found[offer] for offer in choice.chosen]
    if changed := [each for each in chosen if each.is_changed()]:
        verb = "is" if len(changed) == 1 else "are"
        tell(
            f"{count_of(len(changed), 'file')} {verb} not as hauled, such as {changed[0].path}; an"
            " audit says more"
        )
    return [table for each in chosen for table in _tables_in(each, request)]


def _candidates(request: CombineRequest, *, any_name: bool) -> Iterator[Holding]:
    """The files that may be meant, each with its place among them."""
    addresses = _addresses_of(request.cart) if request.cart is not None else None
    own = request.to.resolve() if request.to is not None else None
    number = 0
    for place in request.places:
        for each in holdings_at(place):
            if addresses is not None and not each.came_from(addresses):
                continue
            if place.is_dir() and not (any_name or is_table(each.path)):
                continue
            if own is not None and each.file.resolve() == own:
                continue
            number += 1
            path = (
                f"{place}/{each.path}" if len(request.places) > 1 and place.is_dir() else each.path
            )
            yield replace(each, path=path, offer=replace(each.offer, number=number))


def _addresses_of(cart: Path) -> set[str]:

    return {without_secrets(offer.address) for offer in Cart.load(cart)}


def _tables_in(each: Holding, request: CombineRequest) -> list[TableFile]:
    """The tables in a file, of which a workbook has several.

    Raises:
        BadOption: a workbook has no such sheet.
    """
    parts = parts_of_names(request.name_parts, each.offer)
    sheets = sheets_of(TableFile(each.open, each.file.name, each.path, each.sha256(), parts))
    if not sheets[0].sheet:
        return sheets
    if request.sheet is None:
        return sheets[:1]
    wanted = on_path(request.sheet)
    chosen = [replace(one, name=f"{one.name}#{one.sheet}") for one in sheets if wanted(one.sheet)]
    if not chosen:
        known = ", ".join(one.sheet for one in sheets)
        raise BadOption(f"--sheet {request.sheet}", f"is none of {each.path}", f"it has {known}")
    return chosen


def _show(combined: Combined, to: Path | None) -> None:
    """Write the first rows, the columns, and the counts."""
    if combined.first:
        rows = [[_shown(cell) for cell in row] for row in combined.first]
        show_table(list(combined.columns), rows, numeric=_numeric(combined))
    cells = [
        [
            name,
            str(told.type),
            f"{told.filled:,}",
            f"{told.empty:,}" if told.empty else "",
            _shown(told.least),
            _shown(told.greatest),
        ]
        for name, told in combined.columns.items()
    ]
    if combined.rows:
        columns = ["column", "holds", "cells", "empty", "least", "greatest"]
        if not any(row[3] for row in cells):
            del columns[3]
            cells = [[*row[:3], *row[4:]] for row in cells]
        show_table(columns, cells, numeric=("cells", "empty", "least", "greatest"))
    for dialect, files in combined.dialects.most_common():
        show_line(f"{count_of(files, 'table')}: {dialect}", dim=True)
    if combined.unchanged and not combined.files:
        tables = count_of(combined.unchanged, "table")
        show_line(f"{tables}, nothing new; {count_of(combined.kept, 'row')} in {to}")
        return
    line = f"{count_of(combined.files, 'table')}, {count_of(combined.rows, 'row')}"
    if combined.unchanged:
        was = "was" if combined.unchanged == 1 else "were"
        line += f"; {combined.unchanged:,} {was} there already"
    if combined.kept:
        line += f"; {count_of(combined.kept, 'row')} from before"
    written = to is not None and combined.files
    show_line(f"{line}; {f'written to {to}' if written else 'nothing was written'}")


def _numeric(combined: Combined) -> Sequence[str]:
    return [name for name, told in combined.columns.items() if str(told.type) in _NUMBERS]


_NUMBERS = ("integer", "real")


def _shown(cell: object) -> str:
    text = "" if cell is None else str(cell)
    return text if len(text) <= _WIDEST else f"{text[: _WIDEST - 1]}…"
