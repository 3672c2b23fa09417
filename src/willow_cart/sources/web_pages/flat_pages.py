"""Parse pages with too deep nesting, such as thousands of unclosed elements.

The tree is cut off at a depth that no page needs; deeper elements are siblings of their ancestors.
Links, rows and headings are found in their order, which is all that is asked of such a page.
"""

from __future__ import annotations

import re
from html.parser import HTMLParser

from lxml import etree

from willow_cart.outside_values import MAX_DEPTH
from willow_cart.safe_xml import Element

# Elements that have no content (HTML, "Void elements").
_VOID = frozenset("area base br col embed hr img input link meta source track wbr".split())
# A new one of these ends one that is open (HTML, "Optional tags").
_ENDS_ITSELF = frozenset("li tr td th p option dt dd".split())
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_.-]*")
_UNWRITABLE = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def parse_flat(text: str) -> Element:
    """Parse a page of any depth into a tree of limited depth."""
    tree = _FlatTree()
    tree.read(text)
    tree.end_text()
    return tree.root


# A page with more tags that do not end was made to take time.
_MAX_FAILURES = 1000


class PageParser(HTMLParser):
    """The parser of the standard library, in a time that grows with the length of a page.

    That looks for the end of each comment and each tag up to the end of the page, so that many
    without an end would take the square of the time.
    """

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self._has_comment_end = True
        self._failures = 0

    def read(self, text: str) -> None:
        """Read a page; nothing after the last `>` can be a tag."""
        self.feed(text[: text.rfind(">") + 1])
        self.close()

    def parse_starttag(self, i: int) -> int:
        """Return where a start tag ends, negative for a tag without an end."""
        if self._failures > _MAX_FAILURES:
            return -1
        end = super().parse_starttag(i)
        self._failures += end < 0
        return end

    def parse_comment(self, i: int, report: bool = True) -> int:
        """Return where a comment ends, negative for one without an end."""
        end = super().parse_comment(i, report) if self._has_comment_end else -1
        self._has_comment_end = end >= 0
        return end

    def parse_marked_section(self, i: int, report: bool = True) -> int:
        """Read a section of another markup as the comment that it is (HTML, 13.2.5.42)."""
        return self.parse_bogus_comment(i, report)


class _FlatTree(PageParser):
    def __init__(self) -> None:
        super().__init__()
        self._text: list[str] = []
        self.root = etree.Element("html")
        self._open: list[Element] = [self.root]

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.end_text()
        if tag in _ENDS_ITSELF and self._open[-1].tag == tag:
            self._open.pop()
        if not _NAME.fullmatch(tag) or tag == "html":
            return
        element = etree.SubElement(self._open[-1], tag)
        for name, value in attrs:
            if _NAME.fullmatch(name):
                element.set(name, _UNWRITABLE.sub("", value or ""))
        if tag not in _VOID and len(self._open) < MAX_DEPTH:
            self._open.append(element)

    def handle_endtag(self, tag: str) -> None:
        self.end_text()
        for at in range(len(self._open) - 1, 0, -1):
            if self._open[at].tag == tag:
                del self._open[at:]
                return

    def handle_data(self, data: str) -> None:
        self._text.append(data)

    def end_text(self) -> None:
        """Put the text since the last tag into the tree."""
        parent = self._open[-1]
        data = _UNWRITABLE.sub("", "".join(self._text))
        self._text.clear()
        if not data:
            return
        if len(parent):
            parent[-1].tail = (parent[-1].tail or "") + data
        else:
            parent.text = (parent.text or "") + data
