"""The time and place that data are of, in the words of catalogues."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from willow_cart.model import Box, DataExtent, is_box
from willow_cart.sources.catalogues.catalogue_words import (
    Node,
    list_of,
    node_of,
    text_of,
    value_of,
)
from willow_cart.sources.sitemaps import read_moment


def extent_of_item(item: Node, properties: Node, media_type: str) -> DataExtent:
    """Return what an asset of an item or a collection is of (STAC 1.0).

    An item has `bbox`, and `datetime` or the two ends of a span; a collection has an `extent`.
    """
    begins, ends, box = None, None, _box(item.get("bbox"))
    if moment := read_moment(text_of(properties, "datetime")):
        begins = ends = moment
    begins = read_moment(text_of(properties, "start_datetime")) or begins
    ends = read_moment(text_of(properties, "end_datetime")) or ends
    extent = item.get("extent")
    if isinstance(extent, dict):
        boxes = list_of(node_of(extent, "spatial").get("bbox"))
        box = _box(boxes[0]) if boxes else box
        spans = list_of(node_of(extent, "temporal").get("interval"))
        if spans and isinstance(spans[0], list) and len(spans[0]) == 2:
            begins, ends = (read_moment(str(each or "")) for each in spans[0])
    return DataExtent(media_type, begins, ends, box)


def extent_of_dataset(dataset: Node, distribution: Node) -> DataExtent:
    """Return what a distribution is of: by DCAT and Dublin Core, or by schema.org.

    Time and place are those of the distribution, else of its dataset.
    """
    media_type = value_of(distribution, "mediaType") or value_of(distribution, "encodingFormat")
    # DCAT names types by the addresses of their registrations.
    media_type = "/".join(media_type.split("/")[-2:]) if "://" in media_type else media_type
    begins, ends, box = None, None, None
    for node in (distribution, dataset):
        if begins is ends is None:
            begins, ends = _span_of(node)
        box = box or _box_of(node)
    return DataExtent(media_type, begins, ends, box)


def _span_of(node: Node) -> tuple[datetime | None, datetime | None]:
    """Return the time of a dataset: `temporalCoverage`, or a period of Dublin Core."""
    coverage = value_of(node, "temporalCoverage")
    first, slash, last = coverage.partition("/")
    if coverage:
        return read_moment(first), read_moment("" if last == ".." else last if slash else first)
    period = node_of(node, "temporal")
    return read_moment(value_of(period, "startDate")), read_moment(value_of(period, "endDate"))


def _box_of(node: Node) -> Box | None:
    """Return the place of a dataset: a box of schema.org, or one in well-known text."""
    place = node_of(node, "spatialCoverage") or node_of(node, "spatial")
    shape = node_of(place, "geo") or place
    numbers = _numbers(value_of(shape, "box"))
    if len(numbers) == 4:  # schema.org writes latitude first
        south, west, north, east = numbers
        return _box([west, south, east, north])
    text = value_of(place, "bbox")
    if "(" in text:  # POLYGON((4.1 52.0, 4.3 52.0, ...)): longitude first
        numbers = _numbers(text[text.rindex("(") + 1 :].replace(")", " "))
        if len(numbers) >= 4 and not len(numbers) % 2:
            east_west, north_south = numbers[::2], numbers[1::2]
            corners = min(east_west), min(north_south), max(east_west), max(north_south)
            return _box([*corners])
    return None


def _numbers(text: str) -> list[float]:
    try:
        return [float(each) for each in text.replace(",", " ").split()]
    except ValueError:
        return []


def _box(value: object) -> Box | None:
    """Return a box of two or three dimensions as one of two; None if it is none."""
    if not isinstance(value, Sequence) or isinstance(value, str) or len(value) not in (4, 6):
        return None
    half = len(value) // 2
    west, south, east, north = value[0], value[1], value[half], value[half + 1]
    if not all(isinstance(each, (int, float)) for each in (west, south, east, north)):
        return None
    try:
        box = float(west), float(south), float(east), float(north)
    except OverflowError:
        return None
    return box if is_box(*box) else None
