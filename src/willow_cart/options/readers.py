"""Parsers for the values of options; they raise ValueError or BadOption."""

from __future__ import annotations

import re

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
