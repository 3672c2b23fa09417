"""Parsers for the values of options; they raise ValueError or BadOption."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from willow_cart.errors import BadOption
from willow_cart.units import parse_seconds, parse_size

MAX_AT_ONCE = 1000
"""More lanes, threads or shares than any machine or server serves well."""

ALL_PAGES = 1_000_000
"""More than any series has."""


def size(text: str) -> int:
    """Parse a size: bytes, or a number with a unit."""
    return parse_size(text)


def speed(text: str) -> int:
    """Parse a speed in bytes per second: `2MB/s`."""
    read = size(text.removesuffix("/s"))
    if not read:
        raise ValueError(f"{text} is not allowed")
    return read


def seconds(text: str) -> float:
    """Parse a duration: seconds, or a number with a unit."""
    return parse_seconds(text)


def positive(text: str) -> int:
    """Parse an integer from 1 up."""
    number = int(text) if re.fullmatch(r"\s*\+?\d{1,12}\s*", text) else 0
    if number < 1:
        raise ValueError(f"{text:.60} is not a whole number from 1 up")
    return number


def few(text: str) -> int:
    """Parse a number of parallel tasks, such as lanes."""
    number = positive(text)
    if number > MAX_AT_ONCE:
        raise ValueError(f"{text:.60} is more than {MAX_AT_ONCE:,}")
    return number


def whole(text: str) -> int:
    """Parse an integer from 0 up."""
    if not re.fullmatch(r"\d{1,12}", text):
        raise ValueError(f"{text:.60} is not a whole number from 0 up")
    return int(text)


def depth(text: str) -> int | None:
    """Parse a depth: an integer from 1 up, or `all`, which is None."""
    return None if text == "all" else positive(text)


def pages(text: str) -> int:
    """Parse a number of pages: an integer from 1 up, or `all`."""
    return ALL_PAGES if text == "all" else positive(text)


def strands(text: str) -> int | None:
    """Parse a number of strands per file; `auto` is None."""
    return None if text == "auto" else few(text)


def drives(text: str) -> list[int]:
    """Parse the sizes of drives, separated by commas."""
    return [size(each) for each in text.split(",")]


def port(text: str) -> int:
    """Parse a port number; 0 is any free port."""
    number = int(text) if re.fullmatch(r"\d{1,5}", text) else 65536
    if number > 65535:
        raise ValueError(f"{text:.60} is not a port from 0 to 65535")
    return number


_UNITS = {"min": "minutes", "h": "hours", "d": "days", "w": "weeks"}
_AGO = re.compile(r"(\d{1,6})\s*(min|h|d|w)")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_ADVICE = "write 2031-05-01, 2031-05-01T06:00Z, or how long ago: 5d, 24h, 90min, 2w"


def parse_when(text: str, now: datetime, *, whole_day: bool = False) -> datetime:
    """Parse a date, a date with a time (ISO 8601), or an age.

    Times without a zone are UTC, as servers write their dates.

    Args:
        text: as typed.
        now: what "ago" is counted from, with time zone.
        whole_day: whether a date alone stands for its end rather than for its beginning.

    Raises:
        BadOption: it is not a date or time.
    """
    text = text.strip()
    try:
        if ago := _AGO.fullmatch(text):
            return now - timedelta(**{_UNITS[ago[2]]: int(ago[1])})
        moment = datetime.fromisoformat(text)
        if whole_day and _DAY.fullmatch(text):
            moment += timedelta(days=1) - timedelta.resolution
    except (ValueError, OverflowError):
        raise BadOption(text, "not a date or time", _ADVICE) from None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def read_span(text: str, now: datetime) -> tuple[datetime | None, datetime | None]:
    """Parse a time: `FROM/UNTIL`, where either may be empty, or one date (ISO 8601, 4.4).

    Raises:
        BadOption: it is not one, or ends before it begins.
    """
    first, slash, last = text.partition("/")
    if not slash:
        last = first
    try:
        begins = parse_when(first, now) if first.strip() else None
        ends = parse_when(last, now, whole_day=True) if last.strip() else None
    except BadOption as error:
        raise BadOption(f"--within-time {text}", error.reason, _TIMES) from None
    if begins is ends is None or (begins and ends and begins > ends):
        raise BadOption(f"--within-time {text}", "not a span of time", _TIMES)
    return begins, ends


_TIMES = "write FROM/UNTIL, such as 2031-05-01/2031-05-31"


Span = tuple[str, datetime | None, datetime | None]
"""A span of time as typed, when it begins and when it ends; None for an open end."""


def moment(text: str) -> datetime:
    """Parse a time, or an age from now."""
    return parse_when(text, datetime.now(UTC))


def end(text: str) -> datetime:
    """Parse a time, or an age from now; a date stands for its end."""
    return parse_when(text, datetime.now(UTC), whole_day=True)


def span(text: str) -> Span:
    """Parse a span of time."""
    return text, *read_span(text, datetime.now(UTC))


def words_in(texts: Sequence[str]) -> tuple[str, ...]:
    """Split words that were given one by one or separated by commas."""
    return tuple(word.strip() for text in texts for word in text.split(",") if word.strip())
