"""Rules on what the data in a file are of: their media type, time and place."""

from __future__ import annotations

import mimetypes
from collections.abc import Callable, Sequence
from datetime import datetime
from fnmatch import fnmatchcase

from willow_cart.choosing.moments import parse_when
from willow_cart.errors import BadOption
from willow_cart.model import Box, Offer, is_box


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
    """Whether the data are of a place that overlaps with a box; no where it is not known."""
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
