"""Count and total the rows of a cart."""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Iterable, Mapping

from willow_cart.model import Offer, Sizes
from willow_cart.structs import Record, field

TOP = "(top)"
"""Stands for the folder of what is in none."""

UNDATED = "(no date)"
"""Stands for the month of what has no date."""

# The largest files that are listed.
_MAX_LARGEST_FILES = 10

# For more months than this, years are shown instead.
_MAX_MONTHS = 24

Groups = defaultdict[str, Sizes]


def _groups() -> Groups:
    return defaultdict(Sizes)


class Weight(Record):
    """Counts and sizes of a cart; each grouping adds up to the total.

    Attributes:
        all: the sizes of all that is taken.
        left_out: how many rows are not taken.
        kinds, folders, sources, months: the sizes by kind of file, folder, source, and month of
            the last change (`2031-05`).
    """

    all: Sizes = field(default_factory=Sizes)
    left_out: int = 0
    kinds: Groups = field(default_factory=_groups)
    folders: Groups = field(default_factory=_groups)
    sources: Groups = field(default_factory=_groups)
    months: Groups = field(default_factory=_groups)
    _largest: list[tuple[int, int, Offer]] = field(default_factory=list)

    def add(self, offer: Offer, *, taken: bool) -> None:
        """Count one row."""
        if not taken:
            self.left_out += 1
            return
        self.all.add(offer)
        self.kinds[offer.kind].add(offer)
        self.folders[offer.path.rpartition("/")[0] or TOP].add(offer)
        self.sources[offer.source].add(offer)
        moment = offer.modified
        self.months[f"{moment.year:04d}-{moment.month:02d}" if moment else UNDATED].add(offer)
        size = offer.about if offer.size is None else offer.size
        if size is not None:
            # Of two that are as large the first is named.
            entry = (size, -self.all.files, offer)
            if len(self._largest) < _MAX_LARGEST_FILES:
                heapq.heappush(self._largest, entry)
            elif entry[0] > self._largest[0][0]:
                heapq.heapreplace(self._largest, entry)

    @property
    def largest(self) -> list[Offer]:
        """The largest files of known or rounded size, in descending order."""
        return [offer for _, _, offer in sorted(self._largest, reverse=True)]


def weigh(rows: Iterable[tuple[Offer, bool]]) -> Weight:
    """Count and total offers with their marks; they are read once and not kept."""
    weight = Weight()
    for offer, taken in rows:
        weight.add(offer, taken=taken)
    return weight


def heaviest(groups: Mapping[str, Sizes]) -> list[tuple[str, Sizes]]:
    """Return groups by known size, the largest first."""
    return sorted(groups.items(), key=lambda each: (-each[1].bytes, -each[1].files, each[0]))


def in_time(months: Mapping[str, Sizes]) -> list[tuple[str, Sizes]]:
    """Return the months in order, or years if there are too many; undated files come last."""
    dated = {month: sizes for month, sizes in months.items() if month != UNDATED}
    if len(dated) > _MAX_MONTHS:
        years: Groups = _groups()
        for month, sizes in dated.items():
            years[month[:4]].add_all(sizes)
        dated = years
    undated = [(UNDATED, months[UNDATED])] if UNDATED in months else []
    return [*sorted(dated.items()), *undated]
