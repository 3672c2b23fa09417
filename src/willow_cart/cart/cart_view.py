"""The rows of a cart as the picker shows them, without a screen."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Sequence
from enum import StrEnum
from pathlib import Path

from willow_cart.cart.rows import read_marked
from willow_cart.cart.sheet import Sheet
from willow_cart.choosing.patterns import words
from willow_cart.model import Issue, Offer, Sizes
from willow_cart.offer_store import OfferStore


class By(StrEnum):
    """What rows that are ticked together have in common."""

    KIND = "kind"
    FOLDER = "folder"
    SOURCE = "source"

    def of(self, offer: Offer) -> str:
        """Return the group of an offer."""
        match self:
            case By.KIND:
                return offer.kind
            case By.FOLDER:
                return offer.path.rpartition("/")[0]
            case By.SOURCE:
                return offer.source


class CartView:
    """The rows of a cart, which of them are ticked, and which are visible.

    Rows are known by their index, from 0. They are held on disk, so a million are no burden.

    Args:
        path: the cart.

    Attributes:
        sheet: the table in it, as it was when the tray was filled.
        marks: whether each row is ticked, 1 or 0.
        shown: the indexes of the rows that the filter leaves.
        taken: the sizes of what is ticked.
        troubles: rows that are not understood, and are not here.

    Raises:
        UnreadableSource: it is not a cart.
    """

    def __init__(self, path: Path) -> None:
        self.sheet = Sheet.at(path)
        self.marks = bytearray()
        self.taken = Sizes()
        self.troubles: list[Issue] = []
        self._rows = OfferStore(distinct=False)
        self._groups: dict[By, array[int]] = {by: array("L") for by in By}
        names: dict[tuple[By, str], int] = {}
        for offer, taken in read_marked(self.sheet, self.troubles, []):
            self._rows.add(offer)
            self.marks.append(taken)
            if taken:
                self.taken.add(offer)
            for by, group in self._groups.items():
                group.append(names.setdefault((by, by.of(offer)), len(names)))
        self._before = bytes(self.marks)
        self.shown: Sequence[int] = range(len(self.marks))

    def __len__(self) -> int:
        return len(self.marks)

    def __getitem__(self, index: int) -> Offer:
        """Return the offer in a row."""
        return self._rows[index + 1]

    @property
    def is_changed(self) -> bool:
        """Whether any mark differs from the cart's."""
        return self._before != self.marks

    def show(self, pattern: str) -> None:
        """Show only rows whose path, link text or heading matches a text, which may have wildcards.

        Raises:
            BadOption: a set among the wildcards cannot be read.
        """
        if not pattern:
            self.shown = range(len(self))
            return
        holds = words(f"*{pattern}*")
        self.shown = array(
            "L",
            (
                number - 1
                for number, offer in self._rows.numbered()
                if any(map(holds, (offer.path, offer.text, offer.heading)))
            ),
        )

    def tick(self, indexes: Iterable[int], *, mark: bool) -> int:
        """Tick or untick rows, and return how many marks changed."""
        changed = 0
        for index in indexes:
            if self.marks[index] != mark:
                self.marks[index] = mark
                changed += 1
                one = Sizes()
                one.add(self[index])
                if mark:
                    self.taken.add_all(one)
                else:
                    self.taken.take_off(one)
        return changed

    def alike(self, index: int, by: By) -> Iterable[int]:
        """Return the visible rows in the same group as a row, including that row."""
        group = self._groups[by]
        return (each for each in self.shown if group[each] == group[index])
