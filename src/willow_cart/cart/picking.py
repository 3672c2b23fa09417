"""Take rows of a cart out and put them back, and undo that."""

from __future__ import annotations

import os
import shutil
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from enum import StrEnum
from pathlib import Path
from typing import TypeVar

from willow_cart.cart.loading import note_facts
from willow_cart.cart.rows import CartRow, RowReader, Unread
from willow_cart.cart.sheet import Sheet, places_of, writing
from willow_cart.choosing import Choice, Choosing, Learn
from willow_cart.errors import BadOption, CannotStore, NothingChosen, UnreadableSource, plainly
from willow_cart.model import Issue, Offer, Sizes
from willow_cart.platform import files
from willow_cart.structs import Record, field


@contextmanager
def keeping_for_undo(path: Path) -> Iterator[None]:
    """Store a copy of a cart next to it if the block changes the cart; see `undo`.

    Raises:
        CannotStore: no room for it.
    """
    fresh = _fresh(path)
    try:
        _complete_undo(path)
        _copy(path, fresh)
    except OSError as error:
        raise _cannot_keep(path, error) from None
    try:
        yield
        kept = _kept(path)
        files.replace(fresh, kept)
        _pair(kept, path)
    finally:
        with suppress(FileNotFoundError):
            fresh.unlink()


def undo(path: Path) -> None:
    """Restore the state of a cart before the last change; a second undo is a redo.

    Raises:
        BadOption: there is nothing to undo, or the cart has been changed since.
        CannotStore: the files cannot be exchanged.
    """
    kept = _kept(path)
    try:
        _complete_undo(path)
    except OSError as error:
        raise _cannot_keep(path, error) from None
    if not path.is_file() or not kept.is_file():
        raise BadOption(
            f"--undo {path}", "there is nothing to undo", "pick stores the previous state"
        )
    if kept.stat().st_mtime_ns != path.stat().st_mtime_ns:
        raise BadOption(
            f"--undo {path}",
            "was changed after the last picking, and undoing would lose that",
            f"the previous state is in {kept}; copy it to restore it",
        )
    between = _fresh(path)
    try:
        # After each step there is a cart, and the other state next to it.
        _copy(path, between)
        files.replace(kept, path)
        files.replace(between, kept)
        _pair(kept, path)
    except OSError as error:
        raise _cannot_keep(path, error) from None


def _complete_undo(path: Path) -> None:
    """Complete an undo that was killed before the later state was stored."""
    if _fresh(path).is_file() and path.is_file() and not _kept(path).exists():
        files.replace(_fresh(path), _kept(path))
        _pair(_kept(path), path)


def _copy(path: Path, to: Path) -> None:
    with suppress(FileNotFoundError):
        to.unlink()
    try:
        os.link(path, to)
    except OSError:  # some file systems have no links
        shutil.copy2(path, to)


def _kept(path: Path) -> Path:
    return path.with_name(f".{path.name}.before")


def _fresh(path: Path) -> Path:
    return path.with_name(f".{path.name}.before.new")


def _pair(kept: Path, path: Path) -> None:
    """Give both files the same time stamp, which shows that the cart was not changed since."""
    stamp = path.stat().st_mtime_ns
    os.utime(kept, ns=(stamp, stamp))


def _cannot_keep(path: Path, error: OSError) -> CannotStore:
    return CannotStore(
        str(path), f"cannot be kept for --undo: {plainly(error)}", "check its folder"
    )


Thing = TypeVar("Thing")
Marked = tuple[Thing, Offer, bool]
"""Whatever stands for a row, its offer, and whether it is taken."""

_Marking = Callable[[Iterable[Marked[CartRow]]], Iterator[Marked[CartRow]]]


class Way(StrEnum):
    """What happens to the rows that the rules choose."""

    OUT = "out"
    """They are taken out."""
    ONLY = "only"
    """They stay, and the others are taken out."""
    BACK = "back"
    """They are put back."""
    SWAP = "swap"
    """Those that are taken are taken out, and those that are out are put back."""


def pick(
    rows: Iterable[Marked[Thing]],
    way: Way,
    choosing: Choosing,
    choice: Choice,
    *,
    learn: Learn | None = None,
    eligible: Callable[[Thing], bool] = lambda _: True,
) -> Iterator[Marked[Thing]]:
    """Mark rows; rows that are already in the target state are not examined.

    Args:
        rows: read once and not kept.
        way: what to do with the chosen rows.
        choosing: the rules that select rows.
        choice: where they are counted.
        learn: requests the facts that rules need; see `Choosing.judge`.
        eligible: which rows can be chosen at all.

    Yields:
        Every row, in order, with the facts learnt.
    """
    waiting: deque[tuple[Marked[Thing], bool]] = deque()
    meant = way is not Way.BACK

    def in_question() -> Iterator[Offer]:
        for row in rows:
            is_meant = row[2] is meant or way is Way.SWAP
            judged = is_meant and eligible(row[0])
            if is_meant and not judged and way is Way.ONLY:
                row = (row[0], row[1], False)  # noqa: PLW2901
            waiting.append((row, judged))
            if judged:
                yield row[1]

    for offer, dropped_by in choosing.judge(in_question(), choice, learn):
        while not waiting[0][1]:
            yield waiting.popleft()[0]
        thing, _, was_taken = waiting.popleft()[0]
        yield thing, offer, _mark_after(way, was_taken=was_taken, is_chosen=not dropped_by)
    yield from (row for row, _ in waiting)


def _mark_after(way: Way, *, was_taken: bool, is_chosen: bool) -> bool:
    """Return whether a row that was examined is taken afterwards."""
    match way:
        case Way.OUT:
            return not is_chosen
        case Way.SWAP:
            return was_taken is not is_chosen
    return is_chosen


class Picked(Record):
    """The result of picking.

    Attributes:
        changed: the rows whose mark is another now.
        taken: the rows that are taken now.
        unread: rows that are not understood, and stay as they are.
        oddities: messages about cells that were treated as unknown.
    """

    changed: Sizes = field(default_factory=Sizes)
    taken: Sizes = field(default_factory=Sizes)
    unread: list[Issue] = field(default_factory=list)
    oddities: list[str] = field(default_factory=list)


def pick_in(
    path: Path,
    way: Way,
    choosing: Choosing,
    choice: Choice,
    learn: Learn | None = None,
    *,
    only_gone: bool = False,
) -> Picked:
    """Pick rows in the file of a cart; its previous state is stored next to it for `undo`.

    Args:
        way: what to do with the chosen rows.
        choosing: the rules that select rows.
        choice: where they are counted.
        learn: requests the facts that rules need.
        only_gone: whether only rows can be chosen that are marked as not offered any more.

    Raises:
        UnreadableSource: it is not a cart, or cannot be written without losing something.
        BadOption: it was changed by another program meanwhile.
        NothingChosen: the choosing keeps no row; the file is left alone.
        CannotStore: the file cannot be written.
    """

    def marked(rows: Iterable[Marked[CartRow]]) -> Iterator[Marked[CartRow]]:
        return pick(
            rows,
            way,
            choosing,
            choice,
            learn=learn,
            eligible=lambda entry: entry.gone or not only_gone,
        )

    return _mark_anew(Sheet.at(path), marked, choice)


def mark_in(sheet: Sheet, marks: Iterable[bool]) -> Picked:
    """Set the marks of the readable rows in a cart's file, in order.

    Args:
        sheet: of the file, which must not have changed since.
        marks: whether each is taken.

    Raises:
        BadOption: the file was changed by another program meanwhile.
        UnreadableSource, CannotStore: as `pick_in`.
    """
    sheet.require_unchanged()

    def marked(rows: Iterable[Marked[CartRow]]) -> Iterator[Marked[CartRow]]:
        return ((row, offer, mark) for (row, offer, _), mark in zip(rows, marks, strict=True))

    return _mark_anew(sheet, marked, None)


def learn_in(path: Path, learn: Learn) -> None:
    """Ask for unknown sizes and dates of taken rows, and store them in the cart's file.

    Raises:
        As `pick_in`, but for NothingChosen.
    """

    def asked(rows: Iterable[Marked[CartRow]]) -> Iterator[Marked[CartRow]]:
        everything = Choosing()  # whatever is chosen is asked about, and all of it stays
        return pick(rows, Way.ONLY, everything, everything.begin(), learn=learn)

    sheet = Sheet.at(path)
    marking = _Remarking(sheet)
    with writing(path, marking.columns, sheet.style) as write:
        for cells in marking.rows(asked):
            write(cells)
        sheet.require_unchanged()


def _mark_anew(sheet: Sheet, mark: _Marking, choice: Choice | None) -> Picked:
    path = Path(sheet.place)
    marking = _Remarking(sheet)
    with keeping_for_undo(path), writing(path, marking.columns, sheet.style) as write:
        for cells in marking.rows(mark):
            write(cells)
        if choice is not None:
            _require_some(choice, path)
        sheet.require_unchanged()
    marking.picked.oddities = marking.reader.oddities.told(str(path))
    return marking.picked


class _Remarking:
    """A pass over a sheet that changes marks and copies everything else.

    Attributes:
        columns: of the sheet as it will be; one for marks is put first if missing.
        reader: of its rows.
        picked: the result.
    """

    def __init__(self, sheet: Sheet) -> None:
        self._has_marks = sheet.place_of("take") is not None
        self.columns = sheet.columns if self._has_marks else ["take", *sheet.columns]
        self._places = places_of(self.columns)
        self.reader = RowReader(sheet)
        self.picked = Picked()
        # Rows that are not understood, each with how many there were before it that are.
        self._unread: deque[tuple[int, Unread]] = deque()

    def rows(self, mark: _Marking) -> Iterator[list[str]]:
        """Yield the cells of each row in order.

        Raises:
            UnreadableSource: a row cannot be distinguished from its neighbours.
        """
        for number, (entry, offer, taken) in enumerate(mark(self._understood()), 1):
            yield from self._unread_before(number)
            if taken:
                self.picked.taken.add(offer)
            cells = self._widened(entry.row.cells)
            if taken is not entry.taken:
                self.picked.changed.add(offer)
                cells[self._places["take"]] = "yes" if taken else ""
            if offer is not entry.offer:
                note_facts(cells, offer, self._places)
            yield cells
        yield from self._unread_before(float("inf"))

    def _understood(self) -> Iterator[Marked[CartRow]]:
        met = 0
        for entry in self.reader.entries():
            if isinstance(entry, CartRow):
                met += 1
                yield entry, entry.offer, entry.taken
            else:
                self._unread.append((met, entry))

    def _unread_before(self, number: float) -> Iterator[list[str]]:
        while self._unread and self._unread[0][0] < number:
            _, entry = self._unread.popleft()
            if entry.row is None:
                raise UnreadableSource(entry.trouble.place, entry.trouble.why, "fix it first")
            self.picked.unread.append(entry.trouble)
            yield self._widened(entry.row.cells)

    def _widened(self, cells: list[str]) -> list[str]:
        # Without marks all are taken.
        return cells if self._has_marks else ["yes", *cells]


def _require_some(choice: Choice, path: Path) -> None:
    if not choice.offered:
        raise NothingChosen(
            str(path),
            "no row would be changed by this",
            "--back applies to rows that are out, --out and --only to rows that are taken",
            offered=0,
            rule=None,
        )
    choice.require_some()
