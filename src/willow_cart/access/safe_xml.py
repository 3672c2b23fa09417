"""XML from strangers: with entities, external definitions and the network off."""

from __future__ import annotations

from lxml import etree

Element = etree._Element  # noqa: SLF001  # the library has no other name for it
"""An element of a page's or a document's tree."""


class BrokenXml(ValueError):
    """What came is no XML; the text says where it goes wrong."""


def parse_safely(content: bytes) -> Element:
    """Parse XML into its outermost element.

    Raises:
        BrokenXml: it is none.
    """
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, remove_comments=True,
        remove_pis=True, recover=False,
    )  # fmt: skip
    try:
        return etree.fromstring(content, parser)
    except etree.XMLSyntaxError as error:
        raise BrokenXml(error.msg) from None


def local_name(element: Element) -> str:
    """An element's name without its namespace."""
    tag = element.tag
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""
