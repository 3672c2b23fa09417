"""The rows of a cart as the picker shows them, without a screen."""

from __future__ import annotations

from array import array
from collections import defaultdict
from collections.abc import Iterable, Sequence
from enum import StrEnum
from pathlib import Path

from willow_cart.cart.folder_tree import ROOT, FolderTree
from willow_cart.cart.rows import read_marked
from willow_cart.cart.sheet import Sheet
from willow_cart.choosing.patterns import words
from willow_cart.model import Issue, Offer, Sizes
from willow_cart.offer_store import OfferStore


class By(StrEnum):
    """What rows that are ticked together have in common."""

    KIND = "kind"
    SOURCE = "source"

    def of(self, offer: Offer) -> str:
        """Return the group of an offer."""
        return offer.kind if self is By.KIND else offer.source


class CartView:
    """The rows of a cart, which of them are ticked, and which are visible.

    Rows are known by their index, from 0. They are held on disk, so a million are no burden.

    Attributes:
        sheet: the table in it, as it was when the tray was filled.
        marks: whether each row is ticked, 1 or 0.
        shown: the indexes of the rows that the filter and the folder leave.
        taken_within: the sizes of what is ticked in and below each folder.
        tree: the folders; the first ones are the sources.
        root: the folder that holds all others: the source, if there is just one.
        troubles: rows that are not understood, and are not here.

    Raises:
        UnreadableSource: it is not a cart.
    """

    def __init__(self, path: Path) -> None:
        self.sheet = Sheet.at(path)
        self.marks = bytearray()
        self.troubles: list[Issue] = []
        self.tree = FolderTree()
        self._rows = OfferStore(distinct=False)
        self._groups: dict[By, array[int]] = {by: array("L") for by in By}
        names: dict[tuple[By, str], int] = {}
        self._folders = array("L")
        own: list[Sizes] = [Sizes()]
        for offer, taken in read_marked(self.sheet, self.troubles, []):
            self._rows.add(offer)
            self.marks.append(taken)
            folder = self.tree.add(offer, [offer.source])
            self._folders.append(folder)
            while len(own) < len(self.tree):
                own.append(Sizes())
            if taken:
                own[folder].add(offer)
            for by, group in self._groups.items():
                group.append(names.setdefault((by, by.of(offer)), len(names)))
        self.taken_within = self.tree.sums(own)
        self._before = bytes(self.marks)
        self._matching: Sequence[int] = range(len(self.marks))
        self.shown: Sequence[int] = self._matching
        sources = self.tree.children(ROOT)
        self.root = sources[0] if len(sources) == 1 else ROOT
        self._folder = self.root

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
        """Show only rows that match all words of a text.

        A word matches in the path, the link text or the heading, and may have wildcards.

        Raises:
            BadOption: a set among the wildcards cannot be read.
        """
        if not pattern.strip():
            self._matching = range(len(self))
        else:
            each_holds = [words(f"*{word}*") for word in pattern.split()]
            self._matching = array(
                "L",
                (
                    number - 1
                    for number, offer in self._rows.numbered()
                    if all(
                        any(map(holds, (offer.path, offer.text, offer.heading)))
                        for holds in each_holds
                    )
                ),
            )
        self.enter(self._folder)

    def enter(self, folder: int) -> None:
        """Show only the rows in and below a folder, of those that match."""
        self._folder = folder
        self.shown = self.matching_within(folder)

    def matching_within(self, folder: int) -> Sequence[int]:
        """Return the rows in and below a folder that match the filter."""
        if folder in (ROOT, self.root):
            return self._matching
        within, folders = self.tree.within(folder), self._folders
        return array("L", (index for index in self._matching if within[folders[index]]))

    def folder_of(self, index: int) -> int:
        """Return the number of the folder of a row."""
        return self._folders[index]

    @property
    def taken(self) -> Sizes:
        """The sizes of all that is ticked."""
        return self.taken_within[ROOT]

    def tick(self, indexes: Iterable[int], *, mark: bool) -> int:
        """Tick or untick rows, and return how many marks changed."""
        changed: defaultdict[int, Sizes] = defaultdict(Sizes)
        for index in indexes:
            if self.marks[index] != mark:
                self.marks[index] = mark
                changed[self._folders[index]].add(self[index])
        for folder, sizes in changed.items():
            for each in self.tree.upward(folder):
                if mark:
                    self.taken_within[each].add_all(sizes)
                else:
                    self.taken_within[each].take_off(sizes)
        return sum(sizes.files for sizes in changed.values())

    def alike(self, index: int, by: By) -> Iterable[int]:
        """Return the visible rows in the same group as a row, including that row."""
        group = self._groups[by]
        return (each for each in self.shown if group[each] == group[index])
