"""Parse untrusted XML: without entities, external definitions and network access."""

from __future__ import annotations

from collections.abc import Iterator
from typing import BinaryIO

from lxml import etree

Element = etree._Element  # noqa: SLF001  # the library has no other name for it
"""An element of a page's or a document's tree."""


class BrokenXml(ValueError):
    """Invalid XML; the text says where."""


def parse_safely(content: bytes) -> Element:
    """Parse XML and return its root element.

    Raises:
        BrokenXml: it is invalid.
    """
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, remove_comments=True,
        remove_pis=True, recover=False,
    )  # fmt: skip
    try:
        return etree.fromstring(content, parser)
    except etree.XMLSyntaxError as error:
        raise BrokenXml(error.msg) from None


def elements_named(file: BinaryIO, tag: str) -> Iterator[Element]:
    """Iterate over elements of a document, holding one at a time.

    Args:
        file: the document.
        tag: the name of the elements, with its namespace.

    Raises:
        BrokenXml: the rest is not XML.
    """
    events = etree.iterparse(
        file, events=("end",), tag=tag, resolve_entities=False, no_network=True, load_dtd=False,
        remove_comments=True, remove_pis=True,
    )  # fmt: skip
    try:
        for _, element in events:
            yield element
            element.clear()
            while (before := element.getprevious()) is not None:
                parent = before.getparent()
                assert parent is not None, "there is a next element"
                parent.remove(before)
    except etree.XMLSyntaxError as error:
        raise BrokenXml(error.msg) from None


def local_name(element: Element) -> str:
    """Return the name of an element without its namespace."""
    tag = element.tag
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""
