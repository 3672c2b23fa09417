"""The words of catalogues in JSON and JSON-LD (W3C, 1.1): values, checksums, times and areas."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from itertools import islice

from willow_cart.model import Box, DataExtent, is_box
from willow_cart.sources.sitemaps import read_moment

Node = Mapping[str, object]
"""An object of a document."""

# Deeper documents were made to keep readers busy.
_MAX_NODES = 2_000_000


def list_of(value: object) -> list[object]:
    """Return the values of a key that may have one or several."""
    if value is None:
        return []
    return value if isinstance(value, list) else [value]


def text_of(node: Node, key: str) -> str:
    """Return the text of a key; empty if it has none, or something else."""
    value = node.get(key)
    return value if isinstance(value, str) else ""


def value_of(node: Node, word: str) -> str:
    """Return the first text of a word, whatever its prefix; that of a type is all of them.

    `downloadURL` is found as `downloadURL`, `dcat:downloadURL`, and by its whole address; its value
    may be a text, a number, `{"@value": ...}` or `{"@id": ...}`.
    """
    for key, value in node.items():
        if _word_in(key) == word:
            texts = [text for each in list_of(value) if (text := _text_in(each))]
            if texts:
                return " ".join(map(_word_in, texts)) if word == "@type" else texts[0]
    return ""


def node_of(node: Node, word: str) -> Node:
    """Return the first object that a word has, whatever its prefix; an empty one if none."""
    for key, value in node.items():
        if _word_in(key) == word:
            return next((each for each in list_of(value) if isinstance(each, dict)), {})
    return {}


def _word_in(name: str) -> str:
    """Return a word without its prefix."""
    return name.rpartition("#")[2].rpartition("/")[2].rpartition(":")[2]


def _text_in(value: object) -> str:
    if isinstance(value, dict):
        value = value.get("@value", value.get("@id"))
    if isinstance(value, bool) or not isinstance(value, (str, int, float)):
        return ""
    return str(value)


def nodes_in(document: object) -> Iterator[Node]:
    """Yield all objects of a document, the outer ones first, in their order."""
    waiting = [document]
    for _ in range(_MAX_NODES):
        if not waiting:
            return
        value = waiting.pop()
        if isinstance(value, dict):
            yield value
            waiting += reversed([each for key, each in value.items() if key != "@context"])
        elif isinstance(value, list):
            waiting += reversed(value)


class Graph:
    """A document in JSON-LD, in any of its forms, with what its nodes refer to.

    Args:
        document: as it was written, or expanded.

    Attributes:
        nodes: its objects, the outer ones first, in their order.
    """

    def __init__(self, document: object) -> None:
        self.nodes = list(nodes_in(document))
        self._by_name: dict[str, Node] = {}
        for node in self.nodes:
            name = node.get("@id", node.get("id"))
            known = self._by_name.get(name, {}) if isinstance(name, str) else node
            if isinstance(name, str) and len(node) > len(known):
                self._by_name[name] = node

    def whole(self, node: Node) -> Node:
        """Return a node with the nodes that it refers to in place of the references."""
        return {
            key: value if key in _NAMES else [self._target_of(each) for each in list_of(value)]
            for key, value in node.items()
        }

    def _target_of(self, value: object) -> object:
        """Return the node of this document that a value refers to; other values as they are."""
        name = value
        if isinstance(value, dict):
            if len(value) > 1:
                return value
            name = value.get("@id", value.get("id"))
        return self._by_name.get(name, value) if isinstance(name, str) else value


# What a node is called, and its types.
_NAMES = ("@id", "id", "@type", "type")

# Larger documents are read by their words as they are: expanding them takes minutes.
_MAX_EXPANDED_NODES = 20_000


def _defines_words(document: object) -> bool:
    """Whether a document has a context of its own, and words that mean what that says."""
    tops = list_of(document)
    contexts = [
        each for top in tops if isinstance(top, dict) for each in list_of(top.get("@context"))
    ]
    return any(isinstance(each, dict) for each in contexts)


def expanded(document: object, address: str) -> object:
    """Return a document with whole addresses for its words (JSON-LD 1.1, "Expansion").

    One without words of its own is returned as it is, and so is a very large one. Contexts at other
    addresses are not fetched: their words stay as they are.

    Args:
        document: as it was written.
        address: its own, against which its references are resolved; empty if unknown.
    """
    if not _defines_words(document):
        return document
    from pyld import jsonld  # type: ignore[import-untyped]  # few documents need it

    if next(islice(nodes_in(document), _MAX_EXPANDED_NODES, None), None) is not None:
        return document

    def stand_in(there: str, _: object) -> dict[str, object]:
        words = {"@vocab": f"{there}#", "id": "@id", "type": "@type"}
        return {
            "contextUrl": None,
            "contentType": "application/ld+json",
            "documentUrl": there,
            "document": {"@context": words},
        }

    try:
        options = {"base": address, "documentLoader": stand_in, "ordered": False}
        whole: object = jsonld.expand(document, options)
    except (jsonld.JsonLdError, ValueError, TypeError, KeyError, RecursionError):
        return document
    return whole or document


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

    Time and area are those of the distribution, else of its dataset.
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
    """Return the area of a dataset: a box of schema.org, or one in well-known text."""
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
