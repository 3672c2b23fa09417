"""The folders of offers, at any depth, with the files and sizes below each."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime

from willow_cart.model import Offer, Sizes

ROOT = 0
"""The number of the folder that holds all others."""


class FolderTree:
    """Folders, known by numbers in the order in which they were found.

    A folder is found after the one that holds it, so that sums need one pass from the last to the
    first. Folders are few beside files: those of a million files take some megabytes.
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
        """Return the path of a folder, with a slash behind each name."""
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
        """Yield a folder and all that hold it, up to the root."""
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
            sizes: what is right in each; None for what was added.
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
