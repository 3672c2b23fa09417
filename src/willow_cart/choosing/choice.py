"""The counts of a selection, valid at any time while it runs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from difflib import get_close_matches

from willow_cart.errors import NothingChosen
from willow_cart.kinds import extension_of
from willow_cart.model import Offer
from willow_cart.structs import Record, field
from willow_cart.units import count_of

# Offers that are remembered to say what there was, where a rule leaves nothing.
_MAX_EXAMPLES = 200
_MAX_LISTED = 6


class Choice(Record):
    """The result of a selection so far.

    Attributes:
        rules: the rules in order, each as typed.
        offered: how many offers there were.
        kept: how many of them every rule kept.
        passed: how many offers each rule left.
        chosen: those that every rule kept, in the order they were offered, if they are gathered.
        undated: how many offers a rule on dates met that have none.
        unsized: how many offers a rule on sizes met of which no size is known, or not well enough.
        unnamed: how many offers rules on names have dropped whose addresses name no kind of file.
        extensions: how many offers there were of each extension.
        ended_by: the rule by which nothing that follows can be kept, as typed; empty while
            undecided.
        examples: some of the first offers, to say what there was.
    """

    rules: list[str]
    offered: int = 0
    kept: int = 0
    passed: Counter[str] = field(default_factory=Counter)
    chosen: list[Offer] = field(default_factory=list)
    undated: int = 0
    unsized: int = 0
    unnamed: int = 0
    extensions: Counter[str] = field(default_factory=Counter)
    ended_by: str = ""
    examples: list[Offer] = field(default_factory=list)

    def note(self, offer: Offer) -> None:
        """Count an offer that is examined."""
        self.offered += 1
        self.extensions[extension_of(offer.file_name)] += 1
        if self.offered <= _MAX_EXAMPLES:
            self.examples.append(offer)

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
                "no files found", "there are none", "check the source", offered=0, rule=None
            )
        before = self.offered
        for rule in self.rules:
            if not self.passed[rule]:
                break
            before = self.passed[rule]
        left = f"all {count_of(before, 'offer')}"
        if before < self.offered:
            left = f"the {count_of(before, 'offer')} that the other rules left"
        there = self._what_there_was(rule, is_first=before == self.offered)
        if self.unnamed:
            there = (
                f"{count_of(self.unnamed, 'address', 'addresses')} may have other names at their"
                f" servers: --ask-sizes asks for them; {there}"
            )
        raise NothingChosen(
            "nothing matched",
            f"{rule} excluded {left}",
            there,
            offered=self.offered,
            rule=rule,
        )

    def _what_there_was(self, rule: str, *, is_first: bool) -> str:
        """Return what a rule could have kept, in terms of that rule."""
        option, _, wanted = rule.partition(" ")
        if option == "--column":
            cells = [each.cell for each in self.examples if each.cell]
            return _listed("columns", [f"{cell.column} {cell.title}".strip() for cell in cells])
        if option == "--heading":
            above = [" / ".join(each.headings) or each.heading for each in self.examples]
            return _listed("headings", above)
        if option == "--link-text":
            return _listed("links", [each.text for each in self.examples])
        if option == "--keep" and is_first:
            names = {each.path if "/" in wanted else each.file_name: None for each in self.examples}
            plain = wanted.replace("*", "").replace("?", "")
            near = get_close_matches(plain, names, _MAX_LISTED, 0.4)
            if near:
                return _listed("nearby", near)
        common = self.extensions.most_common(_MAX_LISTED + 1)
        return _listed(
            "offered" if is_first else "offered in all",
            [f"{count:,} {extension or 'bare'}" for extension, count in common],
        )


def _listed(what: str, names: Iterable[str]) -> str:
    """Return the first different names of a list."""
    there = list(dict.fromkeys(filter(None, names)))
    if not there:
        return f"there are no {what}"
    more = ", ..." if len(there) > _MAX_LISTED else ""
    return f"{what}: {', '.join(there[:_MAX_LISTED])}{more}"
