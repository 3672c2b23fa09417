"""Variants: one file that is offered in several formats or sizes, of which one is enough."""

from __future__ import annotations

import re
from collections.abc import Sequence

from willow_cart.addresses import origin_of
from willow_cart.kinds import extension_of
from willow_cart.model import Offer


class Variants:
    """Finds variants of the same file, and which of them is preferred.

    A preference is an extension, the name of a folder, or the last word of a name's stem:
    `dawn.wav` and `dawn.mp3`, `large/map.png` and `small/map.png`, `film_1080p.mp4` and
    `film_720p.mp4` are twins where these are among the preferences. What has none of them has no
    twin.

    Args:
        preferences: the most preferred first; their case does not count.
    """

    def __init__(self, preferences: Sequence[str]) -> None:
        self._ranks = {each.lower().lstrip("."): rank for rank, each in enumerate(preferences)}
        words = "|".join(re.escape(each) for each in self._ranks)
        self._last_word = re.compile(rf"[ ._-]({words})$", re.IGNORECASE)
        self._best: dict[int, tuple[int, ...]] = {}

    def meet(self, offer: Offer) -> None:
        """Register an offer before any offer is judged."""
        key, rank = self._mark(offer)
        if rank and (key not in self._best or rank < self._best[key]):
            self._best[key] = rank

    def keeps(self, offer: Offer) -> bool:
        """Whether no preferred variant of an offer exists; of equals the first is kept."""
        key, rank = self._mark(offer)
        if not rank:
            return True
        if self._best.get(key) != rank:
            return False
        self._best[key] = ()  # the others come too late
        return True

    def _mark(self, offer: Offer) -> tuple[int, tuple[int, ...]]:
        """Return a number for the file that an offer is a variant of, and its rank.

        The rank is empty if it has none.
        """
        *folders, name = offer.path.split("/")
        ranks = []
        extension = extension_of(name)
        stem = name[: len(name) - len(extension) - 1] if extension else name
        if extension in self._ranks:
            ranks.append(self._ranks[extension])
            extension = "*"
        if last := self._last_word.search(stem):
            ranks.append(self._ranks[last[1].lower()])
            stem = stem[: last.start()]
        for number, folder in enumerate(folders):
            if (rank := self._ranks.get(folder.lower())) is not None:
                ranks.append(rank)
                folders[number] = "*"
        # What another place offers under the same path is another thing. A hash will do: that two
        # things have the same is beyond all odds.
        place = (offer.source, origin_of(offer.address))
        return hash((place, *folders, stem, extension)), tuple(sorted(ranks))
