"""`combine`: combine tables."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cart.cart import Cart
from willow_cart.choosing import Choosing
from willow_cart.choosing.patterns import on_path
from willow_cart.commands.result import CommandResult, frame
from willow_cart.errors import BadOption, Exit, NoTable, nothing_there
from willow_cart.events import ChangedHere
from willow_cart.filing.templates import parts_of_names
from willow_cart.model import Issue
from willow_cart.observer import Observer
from willow_cart.options.option import OVERWRITE, Request, argument, flag, option
from willow_cart.options.readers import whole
from willow_cart.stored_files import Holding, holdings_at
from willow_cart.structs import replace
from willow_cart.tables import Combined, Combining, TableFile
from willow_cart.tables.combined_frame import read_frame, typed
from willow_cart.tables.dialect import encoding_named
from willow_cart.tables.output import NoOutput
from willow_cart.tables.outputs import endings_told, output_for, require_form
from willow_cart.tables.table_files import holds_table, is_table, may_be_table, sheets_of
from willow_cart.units import count_of

if TYPE_CHECKING:
    import pandas as pd


class CombineRequest(Request):
    """A request to combine tables."""

    command = "combine"

    places: tuple[Path, ...] = argument(
        (), Path, "a folder, whether hauled into or not, or a table", metavar="DIR|FILE", nargs="+"
    )
    to: Path | None = option(
        None,
        Path,
        f"the file to write; its name ends in {endings_told()}",
        metavar="FILE",
    )
    table: str = option("", str, "the table in a database (the name of its file)", metavar="NAME")
    preview: bool = flag("show the result; writes nothing")
    start_over: bool = flag("start over: do not keep existing rows of other files")
    strict: bool = flag("stop if the columns of the tables differ, or a cell has another type")
    encoding: str = option(
        "", str, "the encoding of the tables, such as cp1252 or utf-16 (detected)", metavar="NAME"
    )
    mixed: bool = flag("take tables that have few columns of the others")
    day_first: bool = flag("read dates such as 01.02.2031 and 01/02/2031 as 1 February")
    thousands: str = option(
        "",
        str,
        "the mark between thousands in numbers",
        choices=("comma", "point", "space", "apostrophe"),
    )
    skip_lines: int = option(
        0, whole, "lines before the header of each table (%(default)s)", metavar="N"
    )
    columns: str = option("", str, "only these columns, in this order", metavar="NAME,...")
    sheet: str | None = option(
        None,
        str,
        "sheets of workbooks to use, as a wildcard pattern (the first sheet)",
        metavar="PATTERN",
    )
    name_parts: str = option(
        "",
        str,
        "makes columns from parts of names: 'level_(?P<year>\\d{4})' adds a column year",
        metavar="REGEX",
    )
    cart: Path | None = option(
        None, Path, "use only files that came from the addresses in a cart", metavar="FILE"
    )
    overwrite: bool = OVERWRITE
    choosing: Choosing = Choosing()


class CombineResult(CommandResult):
    """The result of combining tables.

    Attributes:
        to: the file that they were put in; None for a preview.
        table: the name of the table in a database; empty for the name of its file.
        combined: counts, and the types and ranges of the columns.
    """

    to: Path | None
    table: str
    combined: Combined

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.combined.exit_code

    @property
    def summary(self) -> str:
        """Return how many tables and rows were combined."""
        done = self.combined
        if done.unchanged and not done.files:
            tables = count_of(done.unchanged, "table")
            return f"{tables}, nothing new; {count_of(done.kept, 'row')} in {self.to}"
        line = f"{count_of(done.files, 'table')}, {count_of(done.rows, 'row')}"
        if done.unchanged:
            line += f"; {count_of(done.unchanged, 'table')} unchanged"
        if done.kept:
            line += f"; {count_of(done.kept, 'row')} kept"
        written = self.to is not None and done.files
        return f"{line}; {f'written to {self.to}' if written else 'nothing was written'}"

    def to_frame(self) -> pd.DataFrame:
        """Return the written table; for a preview its first rows."""
        types = {name: told.type for name, told in self.combined.columns.items()}
        if self.to is None:
            return typed(frame([*types], self.combined.first), types)
        return read_frame(self.to, self.table, types)

    def shown(self) -> tuple[Sequence[str], Iterable[Sequence[object]], int]:
        """Return the columns and first rows."""
        rows = (["" if cell is None else cell for cell in row] for row in self.combined.first)
        return [*self.combined.columns], rows, self.combined.rows


def combine(request: CombineRequest, observer: Observer) -> CombineResult:
    """Combine the chosen tables.

    Raises:
        NothingChosen: no table is chosen.
        WillowCartError: an option cannot be understood, or the output cannot be written.
    """
    to = None if request.preview else request.to
    if to is None and not request.preview:
        raise BadOption("--to", "is missing", "name a file, or look first with --preview")
    columns = tuple(name.strip() for name in request.columns.split(",") if name.strip())
    encoding = request.encoding and encoding_named(request.encoding)
    wish = Combining(
        request.skip_lines, columns, strict=request.strict, encoding=encoding, mixed=request.mixed,
        day_first=request.day_first, thousands=request.thousands,
    )  # fmt: skip
    if request.to is not None:
        require_form(request.to, request.table)  # reports a mistake before any work is done
    unreadable: list[Issue] = []
    files = _tables(request, observer, unreadable)
    output = (
        NoOutput(Path())
        if to is None
        else output_for(
            to, request.table, start_over=request.start_over, overwrite=request.overwrite
        )
    )
    from willow_cart.tables.combining import combine as combine_files  # slow to import

    with output:
        combined = combine_files(files, output, wish, unreadable=unreadable)
    return CombineResult(to, request.table, combined)


def _tables(
    request: CombineRequest, observer: Observer, unreadable: list[Issue]
) -> list[TableFile]:
    """Return the chosen tables; workbooks that cannot be opened are recorded.

    Raises:
        NothingChosen: no table is chosen.
    """
    choosing = request.choosing
    # A rule that says what to take may mean a table by any name.
    named = bool(choosing.keep or choosing.keep_re or choosing.ext or choosing.numbers)
    found = {each.offer: (each, name) for each, name in _candidates(request, any_name=named)}
    if not found:
        raise nothing_there(", ".join(map(str, request.places)), "table")
    choice = choosing.choose(found)
    choice.require_some()
    chosen = [found[offer] for offer in choice.chosen]
    if changed := [name for each, name in chosen if each.is_changed()]:
        observer.note(ChangedHere(len(changed), changed[0]))
    tables = []
    for each, name in chosen:
        try:
            tables += _tables_in(each, name, request)
        except NoTable as error:
            unreadable.append(Issue(error.thing, error.why))
    return tables


def _candidates(request: CombineRequest, *, any_name: bool) -> Iterator[tuple[Holding, str]]:
    """Yield the files that may be tables, numbered, with the `source_file` of their rows."""
    wanted = None
    if request.cart is not None:
        wanted = {offer.id for offer in Cart.load(request.cart)}
    own = request.to.resolve() if request.to is not None else None
    number = 0
    for place in request.places:
        for each in holdings_at(place, wanted):
            if place.is_dir() and not (any_name or _is_table(each)):
                continue
            if own is not None and each.file.resolve() == own:
                continue
            number += 1
            several = len(request.places) > 1 and place.is_dir()
            name = f"{place}/{each.path}" if several else each.path
            yield replace(each, offer=replace(each.offer, number=number)), name


def _is_table(each: Holding) -> bool:
    """Whether a file is a table by its name, or plainly one by its content."""
    if is_table(each.path):
        return True
    return may_be_table(each.path) and holds_table(each.open, each.path)


def _tables_in(each: Holding, name: str, request: CombineRequest) -> list[TableFile]:
    """Return the tables in a file; workbooks may have several.

    Raises:
        BadOption: a workbook has no such sheet.
        NoTable: it is a workbook that cannot be opened.
    """
    parts = parts_of_names(request.name_parts, each.offer)
    place = str(each.root.resolve() if name == each.path else Path.cwd())
    sheets = sheets_of(
        TableFile(each.open, each.file.name, name, each.sha256(), parts, place=place)
    )
    if not sheets[0].sheet:
        return sheets
    if request.sheet is None:
        return sheets[:1]
    wanted = on_path(request.sheet)
    chosen = [replace(one, name=f"{one.name}#{one.sheet}") for one in sheets if wanted(one.sheet)]
    if not chosen:
        known = ", ".join(one.sheet for one in sheets)
        raise BadOption(f"--sheet {request.sheet}", f"not a sheet of {name}", f"it has {known}")
    return chosen
