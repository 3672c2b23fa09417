"""The rows of a cart as the picker shows them, without a screen."""

from __future__ import annotations

from array import array
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from enum import StrEnum
from pathlib import Path

from willow_cart.cart.rows import read_marked
from willow_cart.cart.sheet import Sheet
from willow_cart.choosing.patterns import words
from willow_cart.model import Issue, Offer, Sizes
from willow_cart.offer_store import OfferStore

ROOT = 0
"""The number of the folder that holds all others."""


class FolderTree:
    """Folders, known by numbers in the order in which they were found.

    A folder is found after the one that holds it, so that sums need one pass from the last to the
    first. Folders are few next to files: those of a million files take some megabytes.
    """

    def __init__(self) -> None:
        self.names: list[str] = [""]
        self.depths = array("L", [0])
        self._parents = array("L", [ROOT])
        self._children: list[dict[str, int]] = [{}]
        self._sizes: list[Sizes] = [Sizes()]
        self._newest: list[datetime | None] = [None]

    def __len__(self) -> int:
        return len(self.names)

    def add(self, offer: Offer, above: Sequence[str] = ()) -> int:
        """Add an offer, and return the number of its folder.

        Args:
            offer: its path says in which folder it is.
            above: names that come before the path, such as that of the source.
        """
        number = self.find([*above, *offer.path.split("/")[:-1]])
        self._sizes[number].add(offer)
        newest = self._newest[number]
        if offer.modified is not None and (newest is None or offer.modified > newest):
            self._newest[number] = offer.modified
        return number

    def find(self, names: Iterable[str]) -> int:
        """Return the number of a folder, which is added if it is new."""
        number = ROOT
        for name in names:
            known = self._children[number].get(name)
            if known is None:
                known = self._children[number][name] = len(self.names)
                self.names.append(name)
                self.depths.append(self.depths[number] + 1)
                self._parents.append(number)
                self._children.append({})
                self._sizes.append(Sizes())
                self._newest.append(None)
            number = known
        return number

    def path_of(self, number: int) -> str:
        """Return the path of a folder, with a slash after each name."""
        path = ""
        while number != ROOT:
            path = f"{self.names[number]}/{path}"
            number = self._parents[number]
        return path

    def children(self, number: int) -> list[int]:
        """Return the folders right in a folder, by name."""
        return [child for _, child in sorted(self._children[number].items())]

    def walk(
        self, number: int = ROOT, enters: Callable[[int], bool] = lambda _: True
    ) -> Iterator[int]:
        """Yield a folder and those below it, each before its own, by name.

        Args:
            number: of the folder.
            enters: whether to go on to the folders in a folder.
        """
        waiting = [number]
        while waiting:
            number = waiting.pop()
            yield number
            if enters(number):
                waiting += reversed(self.children(number))

    def upward(self, number: int) -> Iterator[int]:
        """Yield a folder and its parents, up to the root."""
        yield number
        while number != ROOT:
            number = self._parents[number]
            yield number

    def within(self, number: int) -> bytearray:
        """Return a flag for each folder: 1 for this one and all below it."""
        flags = bytearray(len(self))
        flags[number] = 1
        for each in range(number + 1, len(self)):
            flags[each] = flags[self._parents[each]]
        return flags

    def sums(self, sizes: Sequence[Sizes] | None = None) -> list[Sizes]:
        """Return the sizes in and below each folder.

        Args:
            sizes: of the direct files of each folder; None for those added.
        """
        sums: list[Sizes] = []
        for each in self._sizes if sizes is None else sizes:
            sums.append(Sizes())
            sums[-1].add_all(each)
        for number in range(len(self) - 1, ROOT, -1):
            sums[self._parents[number]].add_all(sums[number])
        return sums

    def newest(self) -> list[datetime | None]:
        """Return when the newest file in and below each folder was modified."""
        newest = list(self._newest)
        for number in range(len(self) - 1, ROOT, -1):
            mine, above = newest[number], newest[self._parents[number]]
            if mine is not None and (above is None or mine > above):
                newest[self._parents[number]] = mine
        return newest


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
        taken_within: the sizes of ticked rows in and below each folder.
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
                        any(map(holds, (offer.path, offer.text, offer.section)))
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
