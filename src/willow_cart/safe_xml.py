"""Parse untrusted XML: without declarations, entities and network access."""

from __future__ import annotations

import io
import re
from codecs import lookup
from collections.abc import Iterator
from typing import BinaryIO
from xml.parsers import expat
from xml.parsers.expat import errors

from lxml import etree

Element = etree._Element  # noqa: SLF001  # the library has no other name for it
"""An element of a page's or a document's tree."""


_PIECE_BYTES = 1 << 16


class BrokenXml(ValueError):
    """Invalid XML; the text contains the position."""


def parse_safely(content: bytes) -> Element:
    """Parse XML and return its root element.

    Raises:
        BrokenXml: it is invalid, or declares entities.
    """
    _require_no_declarations(io.BytesIO(content))
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
        BrokenXml: the rest is not XML, or it declares entities.
    """
    _require_no_declarations(file)
    file.seek(0)
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


def _require_no_declarations(file: BinaryIO) -> None:
    """Refuse a document type with declarations before anything of it takes effect.

    The name of a document type alone, as some old feeds have it, declares nothing.

    Raises:
        BrokenXml: there are some.
    """
    parser = expat.ParserCreate()
    parser.StartDoctypeDeclHandler = _refuse_declarations
    parser.StartElementHandler = _end_prolog
    try:
        while piece := file.read(_PIECE_BYTES):
            parser.Parse(piece)
    except _PrologRead:
        return
    except BrokenXml:
        raise
    except ValueError:  # characters of several bytes
        _require_no_declarations_in(piece)
    except expat.ExpatError as error:
        # What is broken is reported by the parser that reads the rest.
        if error.code == errors.codes[errors.XML_ERROR_UNKNOWN_ENCODING]:
            _require_no_declarations_in(piece)


# In these, all of ASCII is as it is there.
_LIKE_ASCII = frozenset("shift_jis euc_jp gb2312 gbk gb18030 big5 euc_kr iso2022_jp".split())
_ENCODING = re.compile(rb"<\?xml[^>]*?encoding\s*=\s*[\"']([\w.-]+)")


def _require_no_declarations_in(beginning: bytes) -> None:
    """Refuse declarations in an encoding with characters of several bytes.

    Raises:
        BrokenXml: there are some, or it is another encoding.
    """
    named = _ENCODING.match(beginning)
    try:
        is_known = named is not None and lookup(named[1].decode()).name in _LIKE_ASCII
    except LookupError:
        is_known = False
    if not is_known:
        raise BrokenXml("its encoding is not read")
    if b"<!DOCTYPE" in beginning:
        raise BrokenXml("a DOCTYPE in this encoding is not read")


def _refuse_declarations(
    _name: str,
    _system: str | None,
    _public: str | None,
    has_declarations: int,  # as the library calls it
) -> None:
    if has_declarations:
        raise BrokenXml("a DOCTYPE with declarations is not read")


class _PrologRead(Exception):
    """The first element has come."""


def _end_prolog(_name: str, _attributes: object) -> None:
    raise _PrologRead


def local_name(element: Element) -> str:
    """Return the name of an element without its namespace."""
    tag = element.tag
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""
