"""The values of an errand: what changes between runs, referred to by name in its texts.

`{last_month:%Y-%m}` is written like a field of a template. Other text in braces (`{01..12}`,
`{a,b}`) stays as it is: addresses have ranges, and templates fields of their own.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from itertools import product

from willow_cart.errors import BadOption

_FIELD = re.compile(r"\{([A-Za-z_]\w*)(?:\[([^][{}]*)\])?(?:\|or ([^{}:]*))?(?::([^{}]*))?\}")

# No text of an errand is longer, and no value is written wider.
_MAX_CHARACTERS = 1 << 16
_WIDE = re.compile(r"\d{4}")

_DAY, _MONTH = "%Y-%m-%d", "%Y-%m"


def _months_before(now: datetime, count: int) -> datetime:
    """Return the first day of the month this many months before a date."""
    months = now.year * 12 + now.month - 1 - count
    return now.replace(year=months // 12, month=months % 12 + 1, day=1)


# What every errand knows of the time, with the way in which it is written by default.
_MOMENTS: Mapping[str, tuple[Callable[[datetime], datetime], str]] = {
    "now": (lambda now: now, "%Y-%m-%dT%H:%M"),
    "today": (lambda now: now, _DAY),
    "yesterday": (lambda now: now - timedelta(days=1), _DAY),
    "this_month": (lambda now: _months_before(now, 0), _MONTH),
    "last_month": (lambda now: _months_before(now, 1), _MONTH),
}
_BEFORE: Mapping[str, tuple[Callable[[datetime, int], datetime], str]] = {
    "days_ago": (lambda now, count: now - timedelta(days=count), _DAY),
    "months_ago": (_months_before, _MONTH),
}


def _written(word: str, spec: str, place: str) -> str:
    """Format a value as a text requests; days and months have formats.

    Raises:
        BadOption: it cannot be written so.
    """
    try:
        if "%" not in spec:
            return format(word, spec)
        day = f"{word}-01" if re.fullmatch(r"\d{4}-\d\d", word) else word
        return datetime.fromisoformat(day).strftime(spec)
    except ValueError:
        raise BadOption(place, f"not a format of {word}", "see the guide on values") from None


class Values:
    """The values of one run.

    Args:
        given: those of the errand, in the order in which they are written there; each may use
            those before it. A list makes one source of each of its words.
        now: when the run is, with the time zone whose days count.
        environment: the variables that `{env[NAME]}` tells.

    Raises:
        BadOption: one cannot be understood.
    """

    def __init__(
        self, given: Mapping[str, object], *, now: datetime, environment: Mapping[str, str]
    ) -> None:
        self._now = now
        self._environment = environment
        self._words: dict[str, str] = {}
        self._lists: dict[str, list[str]] = {}
        for name, value in given.items():
            place = f"values, {name}"
            if name in (*_MOMENTS, *_BEFORE, "env") or not name.isidentifier():
                raise BadOption(place, "cannot be the name of a value", "choose another")
            if isinstance(value, list):
                self._lists[name] = [self.fill(str(each), place) for each in value]
                if not value:
                    raise BadOption(place, "is an empty list", "name what there is")
            elif isinstance(value, bool | dict):
                raise BadOption(place, "must be a text, a number or a list", "write it in quotes")
            else:
                self._words[name] = self.fill(str(value), place)

    def shown(self) -> Iterator[tuple[str, str]]:
        """Yield the names and values of the errand, to be shown."""
        yield from self._words.items()
        yield from ((name, ", ".join(words)) for name, words in self._lists.items())

    def fill(self, text: str, place: str, *, leave: bool = False) -> str:
        """Replace names by values in a text.

        Args:
            text: with names in braces.
            place: the position of the text, for messages.
            leave: whether names that are no values stay: fields of a template.

        Raises:
            BadOption: a name is not a value, or one that cannot be written so; or the text
                becomes too long.
        """
        characters = 0

        def put(found: re.Match[str]) -> str:
            nonlocal characters
            if _WIDE.search(found[4] or ""):
                raise BadOption(f"{place}, {found[0]}", "not a format", "see the guide on values")
            value = self._value_of(found, place, leave=leave)
            characters += len(value)
            if characters > _MAX_CHARACTERS:
                reason = f"comes to more than {_MAX_CHARACTERS:,} characters"
                raise BadOption(place, reason, "shorten the values in it")
            return value

        return _FIELD.sub(put, text)

    def _value_of(self, found: re.Match[str], place: str, *, leave: bool) -> str:
        """Return what a name in braces stands for; see `fill`."""
        name, part, otherwise, spec = found.groups()
        if name in self._words and part is None:
            return _written(self._words[name], spec or "", f"{place}, {found[0]}")
        if name in self._lists:
            raise BadOption(
                f"{place}, {found[0]}", "is a list, which only sources can use", "use a text here"
            )
        moment = self._moment(name, part, place, found[0])
        if moment is not None:
            return format(moment[0], spec or moment[1])
        if name == "env" and part:
            value = self._environment.get(part, otherwise)
            if value is None:
                raise BadOption(
                    f"{place}, {found[0]}", "not set", f"set it, or write {{env[{part}]|or"
                    " WORD}"
                )  # fmt: skip
            return value
        if leave:
            return found[0]
        known = [*self._words, *self._lists, *_MOMENTS, *_BEFORE, "env"]
        near = difflib.get_close_matches(name, known, 1)
        meant = f"define {name} under [values]"
        if near:
            meant = f"did you mean {{{near[0]}}}? Otherwise {meant}"
        raise BadOption(f"{place}, {found[0]}", "not a value", meant)

    def variants(self, texts: Sequence[str]) -> Iterator[Values]:
        """Yield one set of values for every combination of the lists that texts refer to."""
        used = [
            name
            for name in self._lists
            if any(found[1] == name for text in texts for found in _FIELD.finditer(text))
        ]
        for words in product(*(self._lists[name] for name in used)):
            variant = object.__new__(Values)
            variant._now, variant._environment = self._now, self._environment
            variant._words = {**self._words, **dict(zip(used, words, strict=True))}
            variant._lists = {k: each for k, each in self._lists.items() if k not in used}
            yield variant

    def _moment(
        self, name: str, part: str | None, place: str, written: str
    ) -> tuple[datetime, str] | None:
        if name in _MOMENTS and part is None:
            of, spec = _MOMENTS[name]
            return of(self._now), spec
        if name not in _BEFORE:
            return None
        if part is None or not part.isdecimal() or len(part) > 5:
            raise BadOption(f"{place}, {written}", "has no number", f"write {{{name}[5]}}")
        before, spec = _BEFORE[name]
        try:
            return before(self._now, int(part)), spec
        except (ValueError, OverflowError):
            raise BadOption(
                f"{place}, {written}", "is before the year 1", "use a smaller number"
            ) from None
