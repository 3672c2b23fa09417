"""The counts of a selection, valid at any time while it runs."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

from willow_cart.errors import NothingChosen
from willow_cart.kinds import extension_of
from willow_cart.model import Offer
from willow_cart.units import count_of


@dataclass(slots=True)
class Choice:
    """The result of a selection so far.

    Attributes:
        rules: the rules in order, each as typed.
        offered: how many offers there were.
        kept: how many of them every rule kept.
        passed: how many offers each rule left.
        chosen: those that every rule kept, in the order they were offered, if they are gathered.
        undated: how many offers a rule on dates met that have none.
        unsized: how many offers a rule on sizes met of which no size is known, or not well enough.
        extensions: how many offers there were of each extension.
        ended_by: the rule by which nothing that follows can be kept, as typed; empty while
            undecided.
    """

    rules: list[str]
    offered: int = 0
    kept: int = 0
    passed: Counter[str] = field(default_factory=Counter)
    chosen: list[Offer] = field(default_factory=list)
    undated: int = 0
    unsized: int = 0
    extensions: Counter[str] = field(default_factory=Counter)
    ended_by: str = ""

    def note(self, offer: Offer) -> None:
        """Count an offer that is examined."""
        self.offered += 1
        self.extensions[extension_of(offer.file_name)] += 1

    def require_some(self) -> None:
        """Raise NothingChosen if nothing was chosen.

        Raises:
            NothingChosen: nothing was; the error names the rule that left none, and says what
                there would have been.
        """
        if self.kept:
            return
        if not self.offered:
            raise NothingChosen(
                "no files found",
                "the sources contain none",
                "check them; use --depth for subfolders, --parts for images on a page, and yes in"
                " the rows of a cart",
                offered=0,
                rule=None,
            )
        before = self.offered
        for rule in self.rules:
            if not self.passed[rule]:
                break
            before = self.passed[rule]
        common = self.extensions.most_common(6)
        offered = ", ".join(f"{count:,} {extension or 'bare'}" for extension, count in common)
        raise NothingChosen(
            "nothing matched",
            f"{rule} excluded all {count_of(before, 'offer')}",
            f"offered: {offered}" + (", ..." if len(self.extensions) > 6 else ""),
            offered=self.offered,
            rule=rule,
        )
