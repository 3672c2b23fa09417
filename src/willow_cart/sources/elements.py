"""What every reader of pages and XML wants of an element."""

from __future__ import annotations

from lxml import etree

Element = etree._Element  # noqa: SLF001  # the library has no other name for it
"""An element of a page's or a document's tree."""

_MOST_WORDS = 300


def words_of(element: Element) -> str:
    """The words in an element, blanks drawn together; cut where no link's text would still be."""
    pieces: list[str] = []
    length = 0
    for piece in element.itertext():
        pieces.append(str(piece))
        length += len(piece)
        if length > _MOST_WORDS:
            break
    return " ".join("".join(pieces).split())[:_MOST_WORDS]


def local_name(element: Element) -> str:
    """An element's name without its namespace, in lower case."""
    tag = element.tag
    return tag.rpartition("}")[2].lower() if isinstance(tag, str) else ""
