"""Parse and format sizes, durations, counts and names."""

from __future__ import annotations

import json
import re

from willow_cart.errors import BadOption

# Decimal prefixes by the SI, binary ones by IEC 80000-13. A bare letter is decimal, as disks are.
_FACTORS = {
    "": 1, "b": 1,
    "k": 10**3, "kb": 10**3, "kib": 2**10,
    "m": 10**6, "mb": 10**6, "mib": 2**20,
    "g": 10**9, "gb": 10**9, "gib": 2**30,
    "t": 10**12, "tb": 10**12, "tib": 2**40,
}  # fmt: skip
MONTHS = {name: number for number, name in enumerate(
    "jan feb mar apr may jun jul aug sep oct nov dec".split(), 1)}  # fmt: skip
"""The months as listings of servers write them, in lower case, with their numbers."""

_SECONDS = {"": 1, "s": 1, "min": 60, "h": 3600, "d": 86400}
_TIME = re.compile(r"(\d{1,9}(?:\.\d{1,9})?)\s*(s|min|h|d|)", re.IGNORECASE)
_SIZE = re.compile(r"(\d{1,30}(?:\.\d{1,30})?)\s*([a-z]*)", re.IGNORECASE)


def parse_size(text: str) -> int:
    """Parse a size such as `512`, `10MB` or `1.5 GiB`; return bytes.

    Raises:
        BadOption: the text is not a size.
    """
    match = _SIZE.fullmatch(text.strip())
    factor = _FACTORS.get(match[2].lower()) if match else None
    if match is None or factor is None:
        raise BadOption(text, "not a size", "write bytes or a unit, such as 10MB or 1.5GiB")
    return int(float(match[1]) * factor)


MAX_SIZE_BYTES = 1 << 60
"""The most bytes that a file is believed to have; no disk holds one of more than an exbibyte."""


def read_count(text: str) -> int | None:
    """Parse a number of bytes from a server; None if invalid or too large.

    Only ASCII digits count, and no more of them than 64 bits hold: Python takes other digits too,
    and minutes for very long numbers.
    """
    if not (text.isascii() and text.isdigit() and len(text) <= 19):
        return None
    number = int(text)
    return number if number <= MAX_SIZE_BYTES else None


def parse_seconds(text: str) -> float:
    """Parse a duration such as `90`, `0.5s`, `5min` or `2 h`; return seconds.

    Raises:
        BadOption: the text is not a duration.
    """
    match = _TIME.fullmatch(text.strip())
    if match is None:
        raise BadOption(text, "not a duration", "write seconds or a unit, such as 90s, 5min or 2h")
    return float(match[1]) * _SECONDS[match[2].lower()]


def format_size(count: int) -> str:
    """Format bytes with three significant digits and a decimal unit: `1.26 MB`."""
    if count < 1000:
        return f"{count} B"
    value, units = count / 1000, ["kB", "MB", "GB", "TB", "PB"]
    # 999.5 would be rounded up to a four-digit 1000, so the next unit begins there.
    while value >= 999.5 and len(units) > 1:
        value /= 1000
        units.pop(0)
    digits = 2 if value < 9.995 else 1 if value < 99.95 else 0
    return f"{value:.{digits}f} {units[0]}"


def format_duration(seconds: float) -> str:
    """Format a duration in its two largest units: `0.4 s`, `3 min 20 s`, `2 h 05 min`."""
    if 0 < seconds < 9.95 and seconds % 1:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60:02d} s"
    return f"{whole // 3600} h {whole % 3600 // 60:02d} min"


def count_of(number: int, noun: str, plural: str = "") -> str:
    """Format a count with its noun: `1 file`, `5,000 files`."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


def printable(text: str) -> str:
    """Escape control characters and others that a terminal would interpret.

    Names come from lists and servers; an escape sequence in one must not steer the screen.
    """
    if text.isprintable():
        return text
    return "".join(
        character if character.isprintable() else character.encode("unicode_escape").decode()
        for character in text
    )


def printable_lines(text: str) -> str:
    """Escape as `printable` does, except the ends of lines and tabs."""
    if text.isprintable():
        return text
    return "".join(
        each if each in _LINE_ENDS else printable(each) for each in _LINE_PARTS.split(text)
    )


_LINE_PARTS = re.compile(r"(\r?\n|\t)")
_LINE_ENDS = ("\n", "\r\n", "\t")


def json_text(value: object, *, indent: int | None = None) -> str:
    """Return JSON (RFC 8259) in which whatever a terminal would interpret is escaped."""
    text = json.dumps(value, ensure_ascii=False, indent=indent)
    if text.isprintable():
        return text
    return "".join(
        character if character.isprintable() or character == "\n" else json.dumps(character)[1:-1]
        for character in text
    )
