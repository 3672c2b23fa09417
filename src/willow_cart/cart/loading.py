"""Load offers into a new cart, or update a cart that a user may have edited."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import date
from enum import IntEnum
from pathlib import Path

from willow_cart.cart.columns import (
    CART_COLUMNS,
    COLUMNS,
    GONE,
    NeededColumns,
    without_secrets_in,
)
from willow_cart.cart.forms import Form
from willow_cart.cart.rows import CartRow, RowReader, Unread, cells_of
from willow_cart.cart.sheet import Sheet, Style, places_of, writing
from willow_cart.errors import BadOption, UnreadableSource
from willow_cart.model import Issue, Offer, Sizes
from willow_cart.offer_store import OfferStore
from willow_cart.replacing import replacing
from willow_cart.structs import Record, field, replace
from willow_cart.units import count_of


class _Mark(IntEnum):
    """The mark of an offer that was found."""

    DROPPED = 0
    CHOSEN = 1
    IN_CART = 2


class Loaded(Record):
    """The result of loading.

    Attributes:
        rows: how many the cart has now.
        new: how many of them were not there.
        renewed: of how many a size, a date or a checksum has changed.
        gone: how many are not offered any more and were until now.
        back: how many are offered again.
        taken: the sizes of all that is to be hauled.
        secrets: how many of the new addresses hold secrets, which a cart does not keep.
        unread: rows that are not understood, and stay as they are.
        oddities: messages about cells that were treated as unknown.
    """

    rows: int = 0
    new: int = 0
    renewed: int = 0
    gone: int = 0
    back: int = 0
    taken: Sizes = field(default_factory=Sizes)
    secrets: int = 0
    unread: list[Issue] = field(default_factory=list)
    oddities: list[str] = field(default_factory=list)

    def __str__(self) -> str:
        counts = {
            "new": self.new, "renewed": self.renewed, "gone": self.gone, "back": self.back
        }  # fmt: skip
        told = ", ".join(f"{count:,} {what}" for what, count in counts.items() if count)
        if self.new == self.rows == self.taken.files:
            return f"{self.taken}"
        changes = told or "nothing changed"
        return f"{count_of(self.rows, 'row')}, {changes}; taken: {self.taken}"


class Find:
    """The distinct offers of the sources, and which of them were chosen.

    Args:
        judged: every offer, and whether it is chosen.

    Attributes:
        shelf: the offers, without secrets.
        secrets: how many of the chosen ones had some.
        columns: those that a new table of them has.
    """

    def __init__(self, judged: Iterable[tuple[Offer, bool]]) -> None:
        self.store = OfferStore()
        self.secrets = 0
        self.sources: set[str] = set()
        columns = NeededColumns()
        for found, chosen in judged:
            self.sources.add(found.source)
            offer = without_secrets_in(found)
            self.secrets += chosen and offer is not found
            columns.see(offer)
            mark = _Mark.CHOSEN if chosen else _Mark.DROPPED
            if not self.store.add(offer, mark) and chosen:
                there = self.store.find(offer.id)
                assert there is not None, "it was not added"
                self.store.mark(there[0], mark)
        self.columns = columns.names

    def chosen(self) -> Iterable[Offer]:
        """Return the chosen offers in order."""
        return (offer for _, offer in self.store.numbered(_Mark.CHOSEN))


def load(
    find: Find,
    path: Path,
    sources: Iterable[str] = (),
    covers: Callable[[Offer], bool] = lambda _: False,
    *,
    add: bool = False,
    style: Style | None = None,
    today: date,
) -> Loaded:
    """Write the offers found to a new cart, or update an existing one.

    What the user has put in stays: marks, rows, columns, their order, the way it is written.

    Args:
        find: what the sources offer.
        sources: those that could be looked at, also if they offered nothing, as offers name them.
        covers: whether an offer would have been found if it were still there.
        add: whether sources may be added to a cart that has others.
        style: how it is to be written; None as before, or by its name.
        today: the date that rows are marked gone with.

    Raises:
        BadOption: the cart has rows of other sources, and `add` is not set;
            or it was changed by another program meanwhile.
        UnreadableSource: the cart cannot be read without losing something.
        CannotStore: it cannot be written.
    """
    loaded = Loaded(secrets=find.secrets)
    if path.exists():
        _Renewal(find, path, today, loaded, style).renew(set(sources), covers, add=add)
        return loaded
    style = style or Style("\t" if path.suffix.lower() == ".tsv" else ",")
    with writing(path, find.columns, style) as write:
        for number, offer in enumerate(find.chosen(), 1):
            write(cells_of(offer, number, taken=True, columns=find.columns))
            loaded.taken.add(offer)
    loaded.rows = loaded.new = loaded.taken.files
    return loaded


def load_as(form: Form, find: Find, path: Path) -> Loaded:
    """Write the chosen offers in another format.

    Raises:
        BadOption: there is a file already, in which marks cannot be kept.
        CannotStore: it cannot be written.
    """
    if path.exists():
        raise BadOption(
            f"--cart {path}",
            f"already exists, and a {form.name} cannot keep your changes",
            "name another file, or a .csv",
        )
    loaded = Loaded(secrets=find.secrets)

    def counted() -> Iterable[Offer]:
        for number, offer in enumerate(find.chosen(), 1):
            loaded.taken.add(offer)
            yield replace(offer, number=number)

    with replacing(path) as text:
        form.write(counted(), text)
    loaded.rows = loaded.new = loaded.taken.files
    return loaded


class _Renewal:
    """A cart that is read twice: to find out what has changed, then to write it again."""

    def __init__(
        self, find: Find, path: Path, today: date, loaded: Loaded, style: Style | None
    ) -> None:
        self._find = find
        self._path = path
        self._today = today.isoformat()
        self._loaded = loaded
        self._sheet = Sheet.at(path)
        self._style = style or self._sheet.style
        self._last_number = 0
        self._gone: set[int] = set()
        self._may_have: set[str] = set()

    def renew(self, sources: set[str], covers: Callable[[Offer], bool], *, add: bool) -> None:
        self._may_have = {*sources, *self._find.sources, self._sheet.place}
        self._compare(sources, covers, add=add)
        columns = [*self._sheet.columns]
        columns += [each for each in self._find.columns if self._sheet.place_of(each) is None]
        if self._gone and self._sheet.place_of(GONE) is None:
            columns.append(GONE)
        with writing(self._path, columns, self._style) as write:
            places = places_of(columns)
            for cells in self._old_rows(places, len(columns)):
                write(cells)
            for cells in self._new_rows(places, len(columns)):
                write(cells)
            self._sheet.require_unchanged()

    def _compare(self, sources: set[str], covers: Callable[[Offer], bool], *, add: bool) -> None:
        reader = RowReader(self._sheet)
        for entry in reader.entries():
            self._compare_one(entry, sources, covers, add=add)
        self._loaded.gone = len(self._gone)
        self._loaded.oddities = reader.oddities.told(str(self._path))

    def _compare_one(
        self,
        entry: CartRow | Unread,
        sources: set[str],
        covers: Callable[[Offer], bool],
        *,
        add: bool,
    ) -> None:
        loaded = self._loaded
        loaded.rows += 1
        if isinstance(entry, Unread):
            if entry.row is None:
                raise UnreadableSource(entry.trouble.place, entry.trouble.why, "fix it first")
            loaded.unread.append(entry.trouble)
            return
        offer = entry.offer
        self._last_number = max(self._last_number, offer.number)
        if not add and offer.source not in self._may_have:
            raise BadOption(
                f"--cart {self._path}",
                f"already contains files of another source, {offer.source}",
                "use --add to add to it, or name another file",
            )
        if self._find.store.has(offer.id):
            loaded.back += entry.gone
        elif offer.source in sources and covers(offer) and not entry.gone:
            self._gone.add(entry.row.number)

    def _old_rows(self, places: Mapping[str, int], width: int) -> Iterable[list[str]]:
        reader = RowReader(self._sheet)
        loaded = self._loaded
        had_marks = self._sheet.place_of("take") is not None
        for entry in reader.entries():
            assert entry.row is not None, "this was seen to"
            cells = entry.row.cells
            # Cells beyond the last column belong to no column, and stay there.
            end = len(self._sheet.columns)
            cells[end:end] = [""] * (width - end)
            if not had_marks:
                cells[places["take"]] = "yes"  # without marks all are taken
            if isinstance(entry, CartRow):
                offer = self._renewed(entry, cells, places)
                if entry.taken:
                    loaded.taken.add(offer)
            yield cells

    def _renewed(self, entry: CartRow, cells: list[str], places: Mapping[str, int]) -> Offer:
        """Return the known facts of a row, and write those that were missing into its cells."""
        offer = entry.offer
        if not offer.number:
            self._last_number += 1
            cells[places["number"]] = str(self._last_number)
        if entry.row.number in self._gone:
            cells[places[GONE]] = self._today
        found = self._find.store.find(offer.id)
        if found is None:
            return offer
        self._find.store.mark(found[0], _Mark.IN_CART)
        if GONE in places:
            cells[places[GONE]] = ""
        now = learnt(offer, found[1])
        if now is not offer:
            note_facts(cells, now, places)
            self._loaded.renewed += 1
        return now

    def _new_rows(self, places: Mapping[str, int], width: int) -> Iterable[list[str]]:
        for offer in self._find.chosen():
            self._last_number += 1
            cells = [""] * width
            row = cells_of(offer, self._last_number, taken=True)
            for column, cell in zip(COLUMNS, row, strict=True):
                if column in places:
                    cells[places[column]] = cell
            self._loaded.taken.add(offer)
            self._loaded.new += 1
            self._loaded.rows += 1
            yield cells


_RENEWED_FIELDS = tuple(
    column.offer_field for column in CART_COLUMNS if column.is_renewed and column.offer_field
)


def learnt(offer: Offer, now: Offer) -> Offer:
    """Return an offer from a cart with newly learnt facts.

    What was known and is not any more stays.
    """
    size, about, within = now.size, now.about, now.about_within
    if size is None and about is None:
        size, about, within = offer.size, offer.about, offer.about_within
    facts = {
        "size": size,
        "about": about if size is None else None,  # which is all that a cell says
        "about_within": within if size is None else None,
        "modified": now.modified or offer.modified,
        **{name: getattr(now, name) or getattr(offer, name) for name in _RENEWED_FIELDS},
    }
    news = {name: fact for name, fact in facts.items() if fact != getattr(offer, name)}
    return replace(offer, **news) if news else offer


def note_facts(cells: list[str], offer: Offer, places: Mapping[str, int]) -> None:
    """Write the facts of an offer into the cells of its row, where the columns exist."""
    for column in CART_COLUMNS:
        if column.is_renewed and column.name in places:
            cells[places[column.name]] = column.write(offer)
