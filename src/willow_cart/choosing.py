"""Choosing among offers: one immutable value, the same in every command.

The rules are applied in the order of the fields of `Choosing`; each sees only what the ones before
it have left, so that a report can say which rule emptied the list.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

from willow_cart.errors import BadOption, NothingChosen
from willow_cart.kinds import extension_of
from willow_cart.model import Offer
from willow_cart.units import count_of

Keeps = Callable[[Offer], bool]


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule of a choosing: as it was typed, and what it keeps."""

    typed: str
    keeps: Keeps


@dataclass(frozen=True, slots=True)
class Choice:
    """What came of a choosing.

    Attributes:
        offered: how many offers there were.
        chosen: those that every rule kept, in the order they were offered.
        left: for each rule, in order, how it was typed and how many offers it left.
        extensions: how many offers there were of each extension.
    """

    offered: int
    chosen: list[Offer]
    left: list[tuple[str, int]]
    extensions: Counter[str]

    def require_some(self) -> None:
        """Insist that something was chosen.

        Raises:
            NothingChosen: nothing was; the error names the rule that left none, and says what
                there would have been.
        """
        if self.chosen:
            return
        if not self.offered:
            raise NothingChosen(
                "nothing is offered",
                "the sources hold no address",
                "look into them",
                offered=0,
                rule=None,
            )
        emptied = next(index for index, (_, count) in enumerate(self.left) if not count)
        before = self.left[emptied - 1][1] if emptied else self.offered
        rule = self.left[emptied][0]
        common = self.extensions.most_common(6)
        offered = ", ".join(f"{count:,} {extension or 'bare'}" for extension, count in common)
        raise NothingChosen(
            "nothing chosen",
            f"{rule} left none of {count_of(before, 'offer')}",
            f"offered were {offered}" + (", ..." if len(self.extensions) > 6 else ""),
            offered=self.offered,
            rule=rule,
        )


@dataclass(frozen=True)
class Choosing:
    """Which of the offers are wanted.

    Attributes:
        extensions: any of these, whatever their case; `tar.gz` counts as one. Empty keeps all.
        keep: wildcards, any of which must match; see `wildcard`. Empty keeps all.
        drop: wildcards, none of which may match.
        keep_re: regular expressions, any of which must be found in the path below the source.
        drop_re: regular expressions, none of which may be found there.
        first: at most so many of what is left; None for all.

    Raises:
        BadOption: a pattern cannot be read, or `first` is not positive.
    """

    extensions: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    drop: tuple[str, ...] = ()
    keep_re: tuple[str, ...] = ()
    drop_re: tuple[str, ...] = ()
    first: int | None = None

    def __post_init__(self) -> None:
        if self.first is not None and self.first < 1:
            raise BadOption(f"--first {self.first}", "keeps nothing", "give a number from 1 up")
        _ = self.rules  # patterns are read now, so that a slip is told before any work is done

    @cached_property
    def rules(self) -> tuple[Rule, ...]:
        """The rules that look at one offer at a time; `first` is none, since it counts."""
        return tuple(self._make_rules())

    def _make_rules(self) -> Iterator[Rule]:
        if self.extensions:
            wanted = {extension.lower().lstrip(".") for extension in self.extensions}
            yield Rule(
                f"--ext {','.join(self.extensions)}",
                lambda offer: extension_of(offer.file_name) in wanted,
            )
        if self.keep:
            kept = [wildcard(pattern) for pattern in self.keep]
            yield Rule(_typed("--keep", self.keep), lambda offer: any(k(offer) for k in kept))
        if self.drop:
            dropped = [wildcard(pattern) for pattern in self.drop]
            yield Rule(
                _typed("--drop", self.drop), lambda offer: not any(d(offer) for d in dropped)
            )
        if self.keep_re:
            found = [_expression("--keep-re", pattern) for pattern in self.keep_re]
            yield Rule(
                _typed("--keep-re", self.keep_re), lambda offer: any(f(offer) for f in found)
            )
        if self.drop_re:
            shunned = [_expression("--drop-re", pattern) for pattern in self.drop_re]
            yield Rule(
                _typed("--drop-re", self.drop_re), lambda offer: not any(s(offer) for s in shunned)
            )

    def choose(self, offers: Iterable[Offer]) -> Choice:
        """Apply the rules to the offers, which are gone through once."""
        kept: list[Offer] = []
        passed = [0] * len(self.rules)
        extensions: Counter[str] = Counter()
        for offer in offers:
            extensions[extension_of(offer.file_name)] += 1
            for index, rule in enumerate(self.rules):
                if not rule.keeps(offer):
                    break
                passed[index] += 1
            else:
                kept.append(offer)
        left = [(rule.typed, count) for rule, count in zip(self.rules, passed, strict=True)]
        if self.first is not None:
            kept = kept[: self.first]
            left.append((f"--first {self.first}", len(kept)))
        return Choice(extensions.total(), kept, left, extensions)


def wildcard(pattern: str) -> Keeps:
    """Turn a wildcard pattern into a test of an offer.

    `*` and `?` stand for any characters and any one, `[abc]` and `[!abc]` for one of a set, all
    within one name; `**` stands for any number of folders. A pattern with a `/` is held against
    the path below the source, any other against the name alone. Case counts.

    Raises:
        BadOption: a set in the pattern cannot be read.
    """
    try:
        expression = re.compile(_translate(pattern.lstrip("/")), re.DOTALL)
    except re.error as error:
        raise BadOption(pattern, f"is no wildcard: {error}", "mend what is in [ ]") from None
    if "/" in pattern:
        return lambda offer: expression.fullmatch(offer.path) is not None
    return lambda offer: expression.fullmatch(offer.file_name) is not None


def _translate(pattern: str) -> str:
    """Write a wildcard pattern as a regular expression for the whole text."""
    written = []
    at = 0
    while at < len(pattern):
        rest = pattern[at:]
        if rest.startswith("**/"):
            written.append("(?:[^/]+/)*")
            at += 3
        elif rest.startswith("**"):
            written.append(".*")
            at += 2
        elif rest[0] == "*":
            written.append("[^/]*")
            at += 1
        elif rest[0] == "?":
            written.append("[^/]")
            at += 1
        elif rest[0] == "[" and (end := rest.find("]", 3 if rest[1:2] == "!" else 2)) > 0:
            inside = rest[1:end].replace("\\", r"\\").replace("[", r"\[").replace("^", r"\^")
            if inside.startswith("!"):
                inside = f"^{inside[1:]}"
            # A set never stands for a slash, just as the other wildcards do not.
            written.append(f"(?!/)[{inside}]")
            at += end + 1
        else:
            written.append(re.escape(rest[0]))
            at += 1
    return "".join(written)


def _expression(option: str, pattern: str) -> Keeps:
    try:
        expression = re.compile(pattern)
    except re.error as error:
        raise BadOption(
            f"{option} {pattern}",
            f"is no regular expression: {error}",
            "mend it, or use wildcards with --keep and --drop",
        ) from None
    return lambda offer: expression.search(offer.path) is not None


def _typed(option: str, patterns: tuple[str, ...]) -> str:
    return " ".join(f"{option} {pattern}" for pattern in patterns)
