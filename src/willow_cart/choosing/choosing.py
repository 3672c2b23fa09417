"""The rules that select offers.

They are applied in the order of the fields of `Choosing`; each sees only what the ones before it
have left, so that a report can say which rule emptied the list.
"""

from __future__ import annotations

import mimetypes
import os
import re
from collections import Counter
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from datetime import datetime
from difflib import get_close_matches
from enum import Enum
from fnmatch import fnmatchcase
from itertools import count, islice

from willow_cart.addresses import WEB, origin_of, scheme_of
from willow_cart.choosing.patterns import (
    expression,
    literal_beginning,
    read_numbers,
    wildcard,
    words,
)
from willow_cart.errors import BadOption, NothingChosen
from willow_cart.identity import AddressId
from willow_cart.kinds import FAMILIES, extension_of, tells_kind
from willow_cart.model import Box, Offer, is_box
from willow_cart.offer_store import Spool
from willow_cart.options.groups import ChoosingOptions, Unknown
from willow_cart.options.readers import words_in
from willow_cart.structs import Record, Value, field
from willow_cart.units import count_of, format_size

# Offers that are remembered to describe what was offered, where a rule leaves nothing.
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
        undated: how many offers without a date a rule on dates met.
        unsized: how many offers a rule on sizes met whose size is unknown, or not exact enough.
        undated_as, unsized_as: whether these were kept or dropped.
        unnamed: how many offers rules on names have dropped whose addresses name no kind of file.
        extensions: how many offers there were of each extension.
        ended_by: the rule by which nothing that follows can be kept, as typed; empty while
            undecided.
        examples: some of the first offers, to describe what was offered.
    """

    rules: list[str]
    undated_as: Unknown = Unknown.KEEP
    unsized_as: Unknown = Unknown.KEEP
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
                "no files found", "the source lists none", "check the source", offered=0, rule=None
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
            above = [each.section for each in self.examples]
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


def media_type_test(patterns: Sequence[str]) -> Callable[[Offer], bool]:
    """Return a test of an offer's media type by wildcards, whatever their case.

    Where no catalogue names the type, it is the usual one of the file's extension.
    """
    wanted = [pattern.lower() for pattern in patterns]

    def test(offer: Offer) -> bool:
        told = offer.extent.media_type if offer.extent else ""
        told = told or mimetypes.guess_type(offer.file_name, strict=False)[0] or ""
        named = told.partition(";")[0].strip().lower()
        return any(fnmatchcase(named, pattern) for pattern in wanted)

    return test


def is_within_time(offer: Offer, begins: datetime | None, ends: datetime | None) -> bool:
    """Whether the data are of a time that overlaps with a span; no where it is not known."""
    extent = offer.extent
    if extent is None or extent.begins is extent.ends is None:
        return False
    is_before = extent.ends is not None and begins is not None and extent.ends < begins
    is_after = extent.begins is not None and ends is not None and extent.begins > ends
    return not (is_before or is_after)


def read_box(text: str) -> Box:
    """Parse a box: `WEST,SOUTH,EAST,NORTH` in degrees (RFC 7946, 5).

    Raises:
        BadOption: it is not one.
    """
    try:
        west, south, east, north = map(float, text.split(","))
    except ValueError:
        raise BadOption(f"--within-box {text}", "not four numbers", _BOXES) from None
    if not is_box(west, south, east, north):
        raise BadOption(f"--within-box {text}", "not a box in degrees", _BOXES)
    return west, south, east, north


_BOXES = "write WEST,SOUTH,EAST,NORTH, such as 4.1,52.0,4.3,52.2"


def is_within_box(offer: Offer, box: Box) -> bool:
    """Whether the data are of an area that overlaps with a box; false if unknown."""
    other = offer.extent.box if offer.extent else None
    if other is None or other[1] > box[3] or other[3] < box[1]:
        return False
    return any(
        west <= there_east and there_west <= east
        for west, east in _parts(box)
        for there_west, there_east in _parts(other)
    )


def _parts(box: Box) -> list[tuple[float, float]]:
    """Return the stretches of longitude of a box: two across the 180th meridian."""
    west, _, east, _ = box
    return [(west, east)] if west <= east else [(west, 180.0), (-180.0, east)]


class Variants:
    """Finds variants of the same file, and which of them is preferred.

    A preference is an extension, the name of a folder, or the last word of a name's stem:
    `dawn.wav` and `dawn.mp3`, `large/map.png` and `small/map.png`, `film_1080p.mp4` and
    `film_720p.mp4` are twins where these are among the preferences. What has none of these has no
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
        # Other hosts offer other files under the same path. A hash suffices: that two
        # things have the same is beyond all odds.
        place = (offer.source, origin_of(offer.address))
        return hash((place, *folders, stem, extension)), tuple(sorted(ranks))


Learn = Callable[[Sequence[Offer]], Sequence[Offer]]
"""Requests the sizes and dates of offers, and returns the offers with the facts learnt."""

# How many offers are looked at before the next are read: enough to ask for their sizes in lanes.
_BATCH_OFFERS = 256

# What a rounded size may be wrong by, if its source does not show it: a cart may say `~3 MB`.
_ROUNDING_SHARE = 0.2


class _On(Enum):
    """The kind of facts that a rule needs; some may have to be requested first."""

    NAME = 1
    DATE = 2
    SIZE = 3
    TWINS = 4
    COUNT = 5


class ChoosingRule(Value):
    """One rule of a selection.

    Attributes:
        keeps: whether it keeps an offer; None if it is undecided.
        on: the fact that it examines.
        meets: is shown every offer that comes to it before it is asked about the first; None
            where that is not needed.
    """

    typed: str
    keeps: Callable[[Offer], bool | None]
    on: _On = _On.NAME
    meets: Callable[[Offer], None] | None = None


class Choosing(ChoosingOptions):
    """The choosing options, as rules that say which offers are wanted.

    Attributes:
        after_path: whether `after_name` is compared with paths in any case, as in listings of
            several levels.
        offered_before: identifiers of addresses; `since` keeps any other. None for all.

    Raises:
        BadOption: a rule cannot be read, or can keep nothing.
    """

    after_path: bool = False
    offered_before: Container[AddressId] | None = None

    def __post_init__(self) -> None:
        self.rules()  # parses them now, so that mistakes are reported before any work is done

    def rules(self) -> list[ChoosingRule]:
        """Return the rules in order; a new list each time, because some rules count."""
        return [*self._on_names(), *self._on_facts(), *self._on_twins(), *self._on_counts()]

    def choose(self, offers: Iterable[Offer], learn: Learn | None = None) -> Choice:
        """Apply the rules to offers and return those that are kept."""
        choice = self.begin()
        choice.chosen += [offer for offer, rule in self.judge(offers, choice, learn) if not rule]
        return choice

    def beginning(self, *, deep: bool) -> str:
        """Return the common prefix of the paths of everything that can be kept.

        Servers then need not list anything else.

        Args:
            deep: whether paths may have folders; a pattern for names says nothing of those then.
        """
        if not all(("/" in pattern) is deep for pattern in self.keep):
            return ""
        # Character by character: a beginning need not be whole folders.
        return os.path.commonprefix([literal_beginning(each) for each in self.keep])  # noqa: RUF071

    def begin(self) -> Choice:
        """Return an empty result, to be filled by `judge`."""
        typed = [rule.typed for rule in self.rules()]
        return Choice(typed, undated_as=self.undated, unsized_as=self.unsized)

    def judge(
        self, offers: Iterable[Offer], choice: Choice, learn: Learn | None = None
    ) -> Iterator[tuple[Offer, str]]:
        """Apply the rules to offers, which are read once and not kept in memory.

        Args:
            choice: where it is counted.
            learn: requests the facts that rules need, and for the sizes of chosen offers, as late
                and as little as can be; None leaves unknown facts unknown.

        Yields:
            Every offer with the rule that dropped it, as typed; empty for chosen offers.
            A long listing is not read on once nothing more can be kept.
        """
        rules = self.rules()
        early = [rule for rule in rules if rule.on is _On.NAME]
        on_facts = [rule for rule in rules if rule.on in (_On.DATE, _On.SIZE)]
        last = [rule for rule in rules if rule.on in (_On.TWINS, _On.COUNT)]
        judged = self._judge_each(offers, early, on_facts, choice, learn)
        if self.prefer:
            # A variant may come last, so everything is examined before the first result.
            judged = _meet_twins(judged, [rule for rule in last if rule.meets])
        while batch := list(islice(judged, _BATCH_OFFERS)):
            if last:
                batch = [
                    (offer, rule or self._first_against(offer, last, choice))
                    for offer, rule in batch
                ]
            if learn is not None:
                batch = _learn(batch, learn, lambda offer: offer.size is None)
            for offer, rule in batch:
                choice.note(offer)
                choice.kept += not rule
                yield offer, rule
            if choice.kept == self.first and len(batch) == _BATCH_OFFERS:
                # Nothing that follows can be kept: a listing may be long, or have no end.
                choice.ended_by = f"--first {self.first}"
                return

    def _judge_each(
        self,
        offers: Iterable[Offer],
        early: Sequence[ChoosingRule],
        on_facts: Sequence[ChoosingRule],
        choice: Choice,
        learn: Learn | None,
    ) -> Iterator[tuple[Offer, str]]:
        """Apply the rules that examine one offer at a time."""
        coming = iter(offers)
        by_kind = bool(self.ext or self.kind or self.keep)
        while batch := list(islice(coming, _BATCH_OFFERS)):
            if learn is not None and by_kind:
                batch = [o for o, _ in _learn([(o, "") for o in batch], learn, _has_no_kind)]
            judged = [(offer, self._first_against(offer, early, choice)) for offer in batch]
            if by_kind and learn is None:
                choice.unnamed += sum(bool(rule) and _has_no_kind(o) for o, rule in judged)
            if learn is not None:
                judged = _learn(judged, learn, _lacks(on_facts))
            if on_facts:
                judged = [
                    (offer, rule or self._first_against(offer, on_facts, choice))
                    for offer, rule in judged
                ]
            yield from judged

    def _first_against(self, offer: Offer, rules: Sequence[ChoosingRule], choice: Choice) -> str:
        """Return the first rule that excludes an offer; empty if none does."""
        told = set()
        for rule in rules:
            keeps = rule.keeps(offer)
            if keeps is None:
                if rule.on not in told:
                    told.add(rule.on)
                    choice.undated += rule.on is _On.DATE
                    choice.unsized += rule.on is _On.SIZE
                keeps = (self.undated if rule.on is _On.DATE else self.unsized) is Unknown.KEEP
            if not keeps:
                return rule.typed
            choice.passed[rule.typed] += 1
        return ""

    def _on_names(self) -> Iterator[ChoosingRule]:
        if self.numbers is not None:
            _words("--numbers", [self.numbers])
            ranges = read_numbers("--numbers", self.numbers)
            yield ChoosingRule(
                f"--numbers {self.numbers}",
                lambda offer: any(offer.number in each for each in ranges),
            )
        if self.link_text:
            said = [words(pattern) for pattern in self.link_text]
            yield ChoosingRule(
                _typed("--link-text", self.link_text),
                lambda offer: any(s(offer.text) for s in said),
            )
        if self.heading:
            above = [words(pattern) for pattern in self.heading]
            yield ChoosingRule(
                _typed("--heading", self.heading),
                lambda offer: any(fits(each) for fits in above for each in offer.headings),
            )
        if self.column:
            yield ChoosingRule(f"--column {self.column}", _in_column(self.column))
        if self.ext:
            named = _words("--ext", self.ext)
            wanted = {extension.lower().lstrip(".") for extension in named}
            yield ChoosingRule(
                f"--ext {','.join(named)}",
                lambda offer: extension_of(offer.file_name) in wanted,
            )
        if self.kind:
            named = _words("--kind", self.kind)
            kinds = set(named)
            if odd := sorted(kinds - FAMILIES.keys() - {"other"}):
                known = ", ".join((*FAMILIES, "other"))
                raise BadOption(f"--kind {odd[0]}", "not a known kind", f"there are {known}")
            yield ChoosingRule(f"--kind {','.join(named)}", lambda offer: offer.kind in kinds)
        yield from self._on_patterns()
        yield from self._on_extents()
        if self.after_name:
            after = self.after_name.lstrip("/")
            by_path = self.after_path or "/" in self.after_name
            yield ChoosingRule(
                f"--after-name {self.after_name}",
                lambda offer: (offer.path if by_path else offer.file_name) > after,
            )

    def _on_patterns(self) -> Iterator[ChoosingRule]:
        for option, patterns, read, wanted in (
            ("--keep", self.keep, wildcard, True),
            ("--drop", self.drop, wildcard, False),
            ("--keep-re", self.keep_re, lambda each: expression("--keep-re", each), True),
            ("--drop-re", self.drop_re, lambda each: expression("--drop-re", each), False),
        ):
            if patterns:
                tests = [read(pattern) for pattern in patterns]
                yield ChoosingRule(
                    _typed(option, patterns),
                    lambda offer, tests=tests, wanted=wanted: (  # type: ignore[misc]
                        any(test(offer) for test in tests) is wanted
                    ),
                )

    def _on_extents(self) -> Iterator[ChoosingRule]:
        if self.media_type:
            types = _words("--media-type", self.media_type)
            yield ChoosingRule(_typed("--media-type", types), media_type_test(types))
        if self.within_time is not None:
            text, begins, ends = self.within_time
            yield ChoosingRule(
                f"--within-time {text}", lambda offer: is_within_time(offer, begins, ends)
            )
        if self.within_box:
            box = read_box(self.within_box)
            yield ChoosingRule(
                f"--within-box {self.within_box}", lambda offer: is_within_box(offer, box)
            )

    def _on_facts(self) -> Iterator[ChoosingRule]:
        since, until, least, most = self.since, self.until, self.at_least, self.at_most
        if since and until and since > until:
            raise BadOption(f"--since {since.isoformat()}", "is later than --until", "swap the two")
        if least is not None and most is not None and least > most:
            raise BadOption(
                f"--at-least {format_size(least)}", "is more than --at-most", "swap the two"
            )
        if since is not None:
            known = self.offered_before

            def is_new(offer: Offer) -> bool | None:
                if known is not None and offer.id not in known:
                    return True
                return None if offer.modified is None else offer.modified >= since

            yield ChoosingRule(f"--since {since.isoformat()}", is_new, _On.DATE)
        if until is not None:
            yield ChoosingRule(
                f"--until {until.isoformat()}",
                lambda offer: None if offer.modified is None else offer.modified <= until,
                _On.DATE,
            )
        if least is not None:
            yield ChoosingRule(f"--at-least {format_size(least)}", _is_at_least(least), _On.SIZE)
        if most is not None:
            fits = _is_at_least(most + 1)
            yield ChoosingRule(
                f"--at-most {format_size(most)}",
                lambda offer: None if (over := fits(offer)) is None else not over,
                _On.SIZE,
            )

    def _on_twins(self) -> Iterator[ChoosingRule]:
        if self.prefer:
            preferred = _words("--prefer", self.prefer)
            twins = Variants(preferred)
            yield ChoosingRule(
                f"--prefer {','.join(preferred)}", twins.keeps, _On.TWINS, twins.meet
            )

    def _on_counts(self) -> Iterator[ChoosingRule]:
        if self.nth:
            yield ChoosingRule(f"--nth {self.nth}", _nth(self.nth), _On.COUNT)
        if self.first is not None:
            if self.first < 1:
                raise BadOption(
                    f"--first {self.first}", "must be 1 or more", "give a number from 1 up"
                )
            most, met = self.first, count(1)
            yield ChoosingRule(f"--first {most}", lambda _: next(met) <= most, _On.COUNT)


def _meet_twins(
    judged: Iterable[tuple[Offer, str]], rules: Sequence[ChoosingRule]
) -> Iterator[tuple[Offer, str]]:
    """Pass rules all remaining offers before asking them about any of these."""
    aside = Spool()
    for offer, dropped_by in judged:
        aside.add(offer, dropped_by)
        if not dropped_by:
            for rule in rules:
                assert rule.meets is not None, "they were chosen by it"
                rule.meets(offer)
    return iter(aside)


def _learn(
    judged: list[tuple[Offer, str]], learn: Learn, lacks: Callable[[Offer], bool]
) -> list[tuple[Offer, str]]:
    """Request the missing facts of offers that no rule has excluded."""
    asking = [offer for offer, rule in judged if not rule and lacks(offer)]
    if not asking:
        return judged
    learnt = iter(learn(asking))
    return [(next(learnt) if not rule and lacks(offer) else offer, rule) for offer, rule in judged]


def _has_no_kind(offer: Offer) -> bool:
    """Whether an offer needs its server's name: that in its address says no kind of file."""
    is_web = scheme_of(offer.address) in WEB
    return is_web and offer.name is None and not tells_kind(offer.file_name)


def _lacks(rules: Sequence[ChoosingRule]) -> Callable[[Offer], bool]:
    """Return a test whether a rule on facts lacks one."""
    on_facts = [rule for rule in rules if rule.on in (_On.DATE, _On.SIZE)]
    return lambda offer: any(rule.keeps(offer) is None for rule in on_facts)


def _is_at_least(limit: int) -> Callable[[Offer], bool | None]:
    """Return a test of size; rounded sizes near the limit are undecided."""

    def keeps(offer: Offer) -> bool | None:
        if offer.size is not None:
            return offer.size >= limit
        if offer.about is None:
            return None
        within = offer.about_within
        if within is None:
            within = max(round(_ROUNDING_SHARE * offer.about), 512)
        if abs(offer.about - limit) <= within:
            return None
        return offer.about >= limit

    return keeps


def _in_column(column: str) -> Callable[[Offer], bool]:
    """Return a test of the table column that contains a link."""
    if column.isascii() and column.isdigit():
        number = int(column)
        return lambda offer: offer.cell is not None and offer.cell.column == number
    titled = words(column)
    return lambda offer: offer.cell is not None and titled(offer.cell.title)


def _nth(typed: str) -> Callable[[Offer], bool]:
    """Return a test that keeps one of every N offers."""
    match = re.fullmatch(r"(\d{1,9})/(\d{1,9})", typed)
    which, of = (int(match[1]), int(match[2])) if match else (0, 0)
    if not 1 <= which <= of:
        raise BadOption(
            f"--nth {typed}",
            "not a share",
            "write 1/3 for the first of every three, 3/3 for the last",
        )
    met = count()
    return lambda _: next(met) % of == which - 1


def _words(option: str, texts: Sequence[str]) -> tuple[str, ...]:
    """Return the words of an option; refuse none, which would choose everything.

    Raises:
        BadOption: the option holds no words.
    """
    words = words_in(texts)
    if not words:
        raise BadOption(option, "is empty", "leave it out, or add patterns to keep")
    return words


def _typed(option: str, patterns: tuple[str, ...]) -> str:
    return " ".join(f"{option} {pattern}" for pattern in patterns)
