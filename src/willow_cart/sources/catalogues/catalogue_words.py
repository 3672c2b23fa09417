"""Values in JSON documents and in JSON-LD (W3C, version 1.1), whose words come in several forms."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from willow_cart.checks.digests import read_checksum
from willow_cart.errors import BadOption
from willow_cart.model import Checksum, Origin

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
            waiting += reversed(value.values())
        elif isinstance(value, list):
            waiting += reversed(value)


def checksums_of(value: object, usual: str) -> tuple[Checksum, ...]:
    """Return the checksum in `ALGORITHM:DIGITS`, or of the usual algorithm; none if it is odd."""
    if not isinstance(value, str) or not value:
        return ()
    try:
        found = read_checksum(value, algorithm=None if ":" in value else usual)
    except BadOption:
        return ()
    return (Checksum(found.algorithm, found.digest, Origin.CATALOGUE),)
