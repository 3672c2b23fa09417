"""What makes values of the texts of options; each raises ValueError or BadOption for a bad text."""

from __future__ import annotations

import os
import re

from willow_cart.units import parse_seconds, parse_size

MAX_AT_ONCE = 1000
"""More lanes, threads or shares than any machine or server serves well."""


def processors() -> int:
    """Return how many processors this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return 2


def size(text: str) -> int:
    """Read a size: bytes, or with a unit."""
    return parse_size(text)


def speed(text: str) -> int:
    """Read a speed in bytes a second: `2MB/s`."""
    read = size(text.removesuffix("/s"))
    if not read:
        raise ValueError(f"{text} brings nothing")
    return read


def seconds(text: str) -> float:
    """Read a time: seconds, or with a unit."""
    return parse_seconds(text)


def positive(text: str) -> int:
    """Read a count from 1 up."""
    number = int(text) if re.fullmatch(r"\s*\+?\d{1,12}\s*", text) else 0
    if number < 1:
        raise ValueError(f"{text:.60} is not a whole number from 1 up")
    return number


def few(text: str) -> int:
    """Read a count of what works at the same time, such as lanes."""
    number = positive(text)
    if number > MAX_AT_ONCE:
        raise ValueError(f"{text:.60} is more than {MAX_AT_ONCE:,}")
    return number


def whole(text: str) -> int:
    """Read a count from 0 up."""
    if not re.fullmatch(r"\d{1,12}", text):
        raise ValueError(f"{text:.60} is not a whole number from 0 up")
    return int(text)


def depth(text: str) -> int | None:
    """Read a depth: a number from 1 up, or `all`, which is None."""
    return None if text == "all" else positive(text)


def strands(text: str) -> int | None:
    """Read how many strands a file may have; `auto`, for as many as pay, is None."""
    return None if text == "auto" else few(text)


def drives(text: str) -> list[int]:
    """Read the sizes of drives, with commas between them."""
    return [size(each) for each in text.split(",")]


def port(text: str) -> int:
    """Read a port of this machine; 0 is a free one."""
    number = int(text) if re.fullmatch(r"\d{1,5}", text) else 65536
    if number > 65535:
        raise ValueError(f"{text:.60} is not a port from 0 to 65535")
    return number
