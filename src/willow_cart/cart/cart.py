"""The cart as a value, for scripts and notebooks; `load`, `pick` and `split` work on files."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cart.columns import (
    CART_COLUMNS,
    COLUMNS,
    NeededColumns,
    size_cell,
)
from willow_cart.cart.forms import form_for, reader_for
from willow_cart.cart.loading import Find
from willow_cart.cart.picking import Way, pick
from willow_cart.cart.rows import CartRow, RowReader, write_table
from willow_cart.cart.sheet import Sheet, cover
from willow_cart.cart.weighing import Weight, weigh
from willow_cart.choosing import Choosing
from willow_cart.errors import UnreadableSource, plainly
from willow_cart.markup_table import html_table
from willow_cart.model import Issue, Offer, Sizes
from willow_cart.replacing import open_named, replacing
from willow_cart.structs import replace
from willow_cart.units import count_of, format_size

if TYPE_CHECKING:
    import pandas as pd


class Cart:
    """An immutable list of offers, each marked as taken or not; picking returns a new cart.

    Going through it gives the offers that are taken, so that it can be hauled as it is::

        cart = Cart.load("may.csv").pick(Way.OUT, Choosing(ext=("wav",)))
        bring_home(cart, "data", access)

    Args:
        rows: every offer, and whether it is taken.
    """

    def __init__(self, rows: Iterable[tuple[Offer, bool]] = ()) -> None:
        self.rows: tuple[tuple[Offer, bool], ...] = tuple(rows)

    @classmethod
    def of(cls, offers: Iterable[Offer]) -> Cart:
        """Return a cart of distinct offers, all taken and renumbered."""
        find = Find((offer, True) for offer in offers)
        chosen = enumerate(find.chosen(), 1)
        return cls((replace(offer, number=number), True) for number, offer in chosen)

    @classmethod
    def load(cls, path: Path | str) -> Cart:
        """Read a cart from a file in any of the supported formats.

        Raises:
            UnreadableSource: it cannot be read, or rows of it are not understood; the error names
                the first.
        """
        path = Path(path)
        place = str(path)
        try:
            read = reader_for(lambda: open_named(path), place)
        except OSError as error:
            raise UnreadableSource(
                place, f"cannot be read: {plainly(error)}", "name a cart"
            ) from None
        if read is None:
            raise UnreadableSource(place, "not a cart", "read it with wc.load(...)")
        if form_for(path) is None:
            return cls._of_sheet(Sheet.at(path))
        return cls((_offer(item), True) for item in read(lambda: open_named(path), place, []))

    @classmethod
    def from_frame(cls, frame: pd.DataFrame) -> Cart:
        """Make a cart from a data frame with the columns of a cart; only `url` is required.

        Raises:
            UnreadableSource: it has no such column, or rows of it are not understood.
        """
        text = io.StringIO(newline="")
        writer = csv.writer(text)
        writer.writerow(frame.columns)
        cells = frame.astype(object).where(frame.notna(), "")
        writer.writerows(map(_covered_text, row) for row in cells.itertuples(index=False))
        written = text.getvalue().encode("utf-8", "replace")
        return cls._of_sheet(Sheet(lambda: io.BytesIO(written), "the data frame"))

    @classmethod
    def _of_sheet(cls, sheet: Sheet) -> Cart:
        entries = RowReader(sheet).entries()
        return cls(
            (entry.offer, entry.taken)
            if isinstance(entry, CartRow)
            else (_offer(entry.trouble), True)
            for entry in entries
        )

    def to_frame(self) -> pd.DataFrame:
        """Return the cart as a data frame with all columns that a file of it may have.

        `take` is boolean, `number` whole, `size` whole with gaps (bytes), `modified` in UTC with
        gaps; what a listing has rounded is a gap. The rest is text.
        """
        import pandas as pd  # only who uses it waits for it

        rows = [_record(offer, taken) for offer, taken in self.rows]
        frame = pd.DataFrame.from_records(rows, columns=list(COLUMNS))
        kinds = {column.name: column.kind for column in CART_COLUMNS if column.kind}
        moments = [name for name, kind in kinds.items() if kind == "datetime"]
        frame = frame.astype({name: kinds[name] for name in kinds if name not in moments})
        return frame.assign(**{name: pd.to_datetime(frame[name], utc=True) for name in moments})

    def save(self, path: Path | str) -> None:
        """Write the cart as a table, or in the format that the extension names.

        Raises:
            BadOption: no such form.
            CannotStore: it cannot be written.
        """
        path = Path(path)
        form = form_for(path)
        columns = NeededColumns()
        for offer, _ in self.rows:
            columns.see(offer)
        with replacing(path) as text:
            if form is None:
                write_table(self.rows, text, columns.names)
            else:
                form.write(self, text)

    def pick(self, way: Way, choosing: Choosing) -> Cart:
        """Return a cart with the chosen offers taken out, put back, or as the only ones taken.

        Raises:
            NothingChosen: no row to be changed matches the rules.
        """
        choice = choosing.begin()
        rows = pick(((None, offer, taken) for offer, taken in self.rows), way, choosing, choice)
        picked = Cart((offer, taken) for _, offer, taken in rows)
        choice.require_some()
        return picked

    def weigh(self) -> Weight:
        """Return counts and sizes of the offers that are taken."""
        return weigh(self.rows)

    def __iter__(self) -> Iterator[Offer]:
        return (offer for offer, taken in self.rows if taken)

    def __len__(self) -> int:
        return sum(taken for _, taken in self.rows)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Cart) and self.rows == other.rows

    def __hash__(self) -> int:
        return hash(self.rows)

    def __repr__(self) -> str:
        return f"<Cart: {self._brief()}>"

    def _brief(self) -> str:
        sizes = Sizes()
        for offer in self:
            sizes.add(offer)
        brief = f"{len(self):,} of {count_of(len(self.rows), 'row')} taken"
        if sizes.files > sizes.unknown:
            brief += f", {'about ' if sizes.rough else ''}{format_size(sizes.bytes)}"
        return brief + (f", {count_of(sizes.unknown, 'size')} unknown" if sizes.unknown else "")

    def _repr_html_(self) -> str:
        """Return the first rows as a table, for notebooks."""
        columns = ("take", "number", "path", "size", "kind")
        rows = (
            ("yes" if taken else "", str(offer.number), offer.path, size_cell(offer), offer.kind)
            for offer, taken in self.rows
        )
        return html_table(self._brief(), columns, rows, len(self.rows))


def _offer(item: Offer | Issue) -> Offer:
    if isinstance(item, Issue):
        raise UnreadableSource(item.place, item.why, "fix it")
    return item


def _covered_text(cell: object) -> str:
    return cover(cell) if isinstance(cell, str) else str(cell)


def _record(offer: Offer, taken: bool) -> tuple[object, ...]:
    """Return a row of a data frame; addresses keep their secrets, so that they can be hauled."""
    values: dict[str, object] = {"take": taken, "url": " ".join((offer.address, *offer.mirrors))}
    return tuple(
        values[column.name] if column.name in values else _joined(column.as_value(offer))
        for column in CART_COLUMNS
    )


def _joined(value: object) -> object:
    return " ".join(map(str, value)) if isinstance(value, list) else value
