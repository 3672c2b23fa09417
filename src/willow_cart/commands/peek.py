"""`peek`: look into files before they are hauled."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.addresses import expand_ranges, looks_like_address, normalise
from willow_cart.commands.connecting import make_access
from willow_cart.commands.request import ReachingRequest
from willow_cart.commands.result import CommandResult, frame
from willow_cart.errors import Exit, UnreadableSource, WillowCartError
from willow_cart.model import Offer
from willow_cart.observer import Observer
from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import whole
from willow_cart.peeking.content import REAL_NUMBERS, WHOLE_NUMBERS, Content, PeekedColumn
from willow_cart.peeking.peek import Peeked
from willow_cart.peeking.peek import peek as peek_at
from willow_cart.protocols.local import address_of
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value, field
from willow_cart.units import format_size

if TYPE_CHECKING:
    import pandas as pd


class PeekRequest(ReachingRequest):
    """A request to look into files."""

    command = "peek"

    sources: tuple[str, ...] = argument(
        (), str, "addresses or paths of files", metavar="ADDRESS", nargs="+"
    )
    rows: int = option(5, whole, "show this many rows, records or members of each (5)", metavar="N")
    skip_lines: int = option(0, whole, "skip lines before the header of a table", metavar="N")
    json: bool = flag("print JSON")


class PeekResult(CommandResult):
    """The content of a file.

    Attributes:
        file: the facts, columns and first rows, and how many bytes were fetched.
    """

    file: Peeked

    @property
    def form(self) -> str:
        """What the file is: `table`, `JSON`, `zip archive`."""
        return self.file.content.form

    @property
    def facts(self) -> Mapping[str, str | int | float]:
        """Facts about the whole file, by name."""
        return self.file.content.facts

    @property
    def summary(self) -> str:
        """Return what the file is, and how much of it was fetched."""
        told = (headline(self.file), facts_line(self.file.content), *self.file.content.notes)
        return "; ".join([*filter(None, told), fetched_line(self.file)])

    def to_frame(self) -> pd.DataFrame:
        """Return the first rows; numbers and times have their types."""
        content = self.file.content
        return typed_frame([(each.name, each.type) for each in content.columns], content.rows)

    def shown(self) -> tuple[Sequence[str], Iterable[Sequence[object]], int]:
        """Return the columns and rows that people see."""
        columns, cells, _ = shown_table(self.file.content)
        return columns, cells, len(cells)


class PeekDone(Value):
    """The results of inspecting files.

    Attributes:
        files: those that could be looked into.
        failures: why others could not.
    """

    files: Sequence[Peeked] = field(default_factory=list)
    failures: Sequence[WillowCartError] = field(default_factory=list)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.failures else Exit.GOOD


def peek(request: PeekRequest, observer: Observer) -> PeekDone:
    """Look into files, one after the other.

    Raises:
        WillowCartError: an address or an option cannot be understood.
    """
    addresses = [*_addresses(request.sources)]
    files: list[Peeked] = []
    failures: list[WillowCartError] = []
    with make_access([request], 2, observer) as access:
        for address in addresses:
            try:
                files.append(peek_at(access, address, request.rows, request.skip_lines))
            except WillowCartError as error:
                failures.append(error)
                observer.note(error)
    return PeekDone(files, failures)


def peek_offer(request: ReachingRequest, offer: Offer, rows: int) -> Peeked:
    """Look into the file of an offer.

    Args:
        request: its options for reaching servers.
        offer: its address is looked at.
        rows: how many rows, records or members are wanted.

    Raises:
        WillowCartError: it cannot be reached.
    """
    with make_access([request], 1, Observer()) as access:
        return peek_at(access, offer.address, rows)


def _addresses(sources: Sequence[str]) -> Iterator[str]:
    """Yield the addresses of files.

    Raises:
        UnreadableSource: a folder, or a path where nothing is.
    """
    for source in sources:
        if looks_like_address(source):
            found = [normalise(each) for each in expand_ranges(source)]
        elif Path(source).is_file():
            found = [address_of(source)]
        else:
            is_folder = Path(source).is_dir()
            reason = "is a folder" if is_folder else "no such file"
            advice = "list it with survey" if is_folder else "check its name, or give an address"
            raise UnreadableSource(source, reason, advice)
        for address in found:
            if address.endswith("/"):
                raise UnreadableSource(address, "is a folder or a page", "list it with survey")
            yield address


# A table with more columns is shown with a line for each of them.
_MAX_COLUMNS = 8

_MAX_CELL_CHARACTERS = 60


def headline(peeked: Peeked) -> str:
    """Return what a file is, with its size and date."""
    parts = [peeked.content.form]
    if peeked.size is not None:
        parts.append(format_size(peeked.size))
    if peeked.modified is not None:
        parts.append(f"modified {peeked.modified:%Y-%m-%d}")
    return f"{without_secrets(peeked.address)}: {', '.join(parts)}"


def facts_line(content: Content) -> str:
    """Return the facts about a content in one line; empty if there are none."""
    told = (
        f"{name}: {value:,}" if isinstance(value, int) else f"{name}: {value}"
        for name, value in content.facts.items()
    )
    return "; ".join(told)


def fetched_line(peeked: Peeked) -> str:
    """Return how much of a file was fetched."""
    whole = f" of {format_size(peeked.size)}" if peeked.size is not None else ""
    return f"{format_size(peeked.fetched)}{whole} fetched"


def shown_table(
    content: Content,
) -> tuple[Sequence[str], Sequence[Sequence[str]], Sequence[str]]:
    """Return the headings and cells of the first rows, and the headings of numbers.

    A table of many columns is turned, so that each of them has a line.
    """
    columns = content.columns
    cells = [[_cut(cell) for cell in row] for row in content.rows]
    if len(columns) <= _MAX_COLUMNS:
        numbers = [
            _heading(each) for each in columns if each.type.startswith(WHOLE_NUMBERS + REAL_NUMBERS)
        ]
        return [_heading(each) for each in columns], cells, numbers
    counted = [f"{content.row_kind.partition(' ')[0]} {n}" for n in range(1, len(cells) + 1)]
    turned = zip(*cells, strict=True) if cells else [()] * len(columns)
    return (
        ["column", "type", *counted],
        [[each.name, each.type, *values] for each, values in zip(columns, turned, strict=True)],
        (),
    )


def _heading(column: PeekedColumn) -> str:
    return f"{column.name} ({column.type})" if column.type else column.name


def _cut(cell: str) -> str:
    cell = " ".join(cell.split())
    return cell if len(cell) <= _MAX_CELL_CHARACTERS else f"{cell[: _MAX_CELL_CHARACTERS - 3]}..."


def typed_frame(columns: Sequence[tuple[str, str]], rows: Iterable[Sequence[str]]) -> pd.DataFrame:
    """Return a data frame of texts in which numbers and times have their types.

    Args:
        columns: their names and types, as `peek` tells them.
        rows: a text for each column.
    """
    import pandas as pd

    made = frame([name for name, _ in columns], rows)
    for place, (_, type_) in enumerate(columns):
        cells = made.iloc[:, place]
        if type_.startswith(("time", "date")):
            zoned = type_ == "time with zone"
            times = pd.to_datetime(cells, format="ISO8601", errors="coerce", utc=zoned)
            made.isetitem(place, times.array)
        elif type_.startswith(WHOLE_NUMBERS):
            made.isetitem(place, pd.to_numeric(cells, errors="coerce").astype("Int64").array)
        elif type_.startswith(REAL_NUMBERS):
            points = cells.str.replace(",", ".", regex=False)
            made.isetitem(place, pd.to_numeric(points, errors="coerce").astype("float64").array)
    return made
