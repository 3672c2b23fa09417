"""Parse pages with too deep nesting, such as thousands of unclosed elements.

The tree is cut off at a depth that no page needs; what is deeper stands beside its parents. Links,
rows and headings are found in their order, which is all that is asked of such a page.
"""

from __future__ import annotations

import re
from html.parser import HTMLParser

from lxml import etree

from willow_cart.safe_xml import Element

_MAX_NESTING = 200

# Elements that have no content (HTML, "Void elements").
_VOID = frozenset("area base br col embed hr img input link meta source track wbr".split())
# A new one of these ends one that is open (HTML, "Optional tags").
_ENDS_ITSELF = frozenset("li tr td th p option dt dd".split())
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_.-]*")
_UNWRITABLE = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def parse_flat(text: str) -> Element:
    """Parse a page of any depth into a tree of limited depth."""
    tree = _FlatTree()
    tree.feed(text)
    tree.close()
    return tree.root


class _FlatTree(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.root = etree.Element("html")
        self._open: list[Element] = [self.root]

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in _ENDS_ITSELF and self._open[-1].tag == tag:
            self._open.pop()
        if not _NAME.fullmatch(tag) or tag == "html":
            return
        element = etree.SubElement(self._open[-1], tag)
        for name, value in attrs:
            if _NAME.fullmatch(name):
                element.set(name, _UNWRITABLE.sub("", value or ""))
        if tag not in _VOID and len(self._open) < _MAX_NESTING:
            self._open.append(element)

    def handle_endtag(self, tag: str) -> None:
        for at in range(len(self._open) - 1, 0, -1):
            if self._open[at].tag == tag:
                del self._open[at:]
                return

    def handle_data(self, data: str) -> None:
        parent = self._open[-1]
        data = _UNWRITABLE.sub("", data)
        if len(parent):
            parent[-1].tail = (parent[-1].tail or "") + data
        else:
            parent.text = (parent.text or "") + data
