"""Find and replace references in pages in place; all other bytes stay the same.

What is found and what is rewritten is the same by construction: finding is rewriting with a
function that takes note and changes nothing. Attributes are those of the HTML standard that hold
addresses; the same reading serves SVG.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import accumulate

from willow_cart.checks.soft_failures import whole_title_of
from willow_cart.offline_copies.scope import Rewrite, Role
from willow_cart.offline_copies.styles import rewrite_style
from willow_cart.sources.web_pages.flat_pages import PageParser
from willow_cart.sources.web_pages.references import candidates_in_set

NOTHING = "data:,"
"""An address with nothing at it (RFC 2397): makes no request."""

# HTML, "Attributes" (index), by element; `*` stands for any.
_ATTRIBUTES: dict[tuple[str, str], Role] = {
    ("a", "href"): Role.LINK,
    ("area", "href"): Role.LINK,
    ("blockquote", "cite"): Role.LINK,
    ("form", "action"): Role.ADDRESS,
    ("button", "formaction"): Role.ADDRESS,
    ("input", "formaction"): Role.ADDRESS,
    ("iframe", "src"): Role.FRAME,
    ("frame", "src"): Role.FRAME,
    ("img", "src"): Role.IMAGE,
    ("img", "data-src"): Role.IMAGE,
    ("input", "src"): Role.IMAGE,
    ("image", "href"): Role.IMAGE,
    ("image", "xlink:href"): Role.IMAGE,
    ("use", "href"): Role.IMAGE,
    ("use", "xlink:href"): Role.IMAGE,
    ("feimage", "href"): Role.IMAGE,
    ("feimage", "xlink:href"): Role.IMAGE,
    ("video", "poster"): Role.IMAGE,
    ("*", "background"): Role.IMAGE,
    ("audio", "src"): Role.MEDIA,
    ("video", "src"): Role.MEDIA,
    ("track", "src"): Role.MEDIA,
    ("source", "src"): Role.MEDIA,
    ("embed", "src"): Role.MEDIA,
    ("object", "data"): Role.MEDIA,
    ("script", "src"): Role.SCRIPT,
    ("script", "href"): Role.SCRIPT,
    ("script", "xlink:href"): Role.SCRIPT,
}
_SETS = {("img", "srcset"), ("source", "srcset"), ("img", "data-srcset"), ("link", "imagesrcset")}

# HTML, "Link types"; those that are not named are links to other documents.
_LINK_TYPES = {
    "canonical": Role.ADDRESS,
    "stylesheet": Role.STYLE,
    "icon": Role.IMAGE,
    "apple-touch-icon": Role.IMAGE,
    "mask-icon": Role.IMAGE,
    "preload": Role.DRAWN,
    "modulepreload": Role.SCRIPT,
    "dns-prefetch": Role.HINT,
    "preconnect": Role.HINT,
    "prefetch": Role.HINT,
    "prerender": Role.HINT,
    "manifest": Role.HINT,
}
_PRELOADED = {"style": Role.STYLE, "script": Role.SCRIPT, "image": Role.IMAGE}

_TAG_NAME = re.compile(r"<\s*[^\s/>]+")
_ATTRIBUTE = re.compile(
    r"""(?P<name>[^\s/>"'=][^\s/>=]*)(?:\s*=\s*(?P<value>"[^"]*"|'[^']*'|[^\s>"'][^\s>]*))?"""
)
_REFRESH = re.compile(
    r"""(\s*[\d.]+\s*[;,]\s*(?:url\s*=\s*)?)(["']?)(.*?)\2\s*""", re.IGNORECASE | re.DOTALL
)

# What holds for what a server sends and not for a file: its policy would shut out the copies, and
# checksums and origins are no longer those of what was requested.
_WITHOUT_SERVER = ("integrity", "crossorigin")
_CHECKED = ("link", "script", "img", "audio", "video", "image")


class Markup:
    """A page or a drawing as text in which references can be found and replaced.

    Args:
        text: as it is written.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        self._scanner = _Scanner(text)

    @property
    def base(self) -> str:
        """Return the address in the first `base` element (HTML, "Document base URLs")."""
        bases = (tag.get("href") for tag in self._scanner.tags if tag.name == "base")
        return next(filter(None, bases), "")

    @property
    def title(self) -> str:
        """Return the title in one line; empty if missing."""
        return whole_title_of(self.text)

    @property
    def canonical(self) -> str:
        """Return the canonical address (RFC 6596); empty if missing."""
        for tag in self._scanner.tags:
            if tag.name == "link" and "canonical" in (tag.get("rel") or "").lower().split():
                return tag.get("href") or ""
        return ""

    def rewritten(self, new: Rewrite, label: str = "") -> str:
        """Return the text with other references.

        What a `base` element says is taken back, since references are no longer relative to it; a
        content security policy as above.

        Args:
            new: returns the new reference; None keeps it.
            label: a character set that it is to declare before everything else, where a
                declaration wins over others (HTML, "Determining the encoding").
        """
        edits = [edit for tag in self._scanner.tags for edit in tag.edits(new)]
        for start, end in self._scanner.styles:
            written = self.text[start:end]
            instead = rewrite_style(written, new)
            if instead != written:
                edits.append((start, end, instead))
        if label:
            at = self._head()
            edits.append((at, at, f'<meta charset="{html.escape(label)}">'))
        parts = []
        at = 0
        for start, end, instead in sorted(edits):
            parts += [self.text[at:start], instead]
            at = end
        return "".join([*parts, self.text[at:]])

    def _head(self) -> int:
        """Return where the head starts, even if its tag is omitted."""
        first = [tag for tag in self._scanner.tags[:2] if tag.name in ("html", "head")]
        if first:
            return first[-1].end
        doctype = re.match(r"\s*<!doctype[^>]*>", self.text, re.IGNORECASE)
        return doctype.end() if doctype else 0


class _Tag:
    """A start tag and its position."""

    def __init__(self, name: str, written: str, start: int) -> None:
        self.name = name
        self.start = start
        self.end = start + len(written)
        self._written = written

    @cached_property
    def _found(self) -> list[re.Match[str]]:
        written = self._written
        head = _TAG_NAME.match(written)
        at = head.end() if head else 1
        return [*_ATTRIBUTE.finditer(written, at, len(written) - written.endswith(">"))]

    def get(self, name: str) -> str | None:
        """Return the decoded value of an attribute."""
        for found in self._found:
            if found["name"].lower() == name:
                return _value_of(found)
        return None

    def edits(self, new: Rewrite) -> Iterator[tuple[int, int, str]]:
        """Yield the replacements in this tag."""
        seen = set()
        local = False
        for found in self._found:
            name = found["name"].lower()
            if name in seen or found["value"] is None:
                continue  # of two attributes with a name the first counts
            seen.add(name)
            value = _value_of(found)
            instead = self._instead(name, value, new)
            local |= instead is not None and self.name in _CHECKED
            if instead is not None and instead != value:
                yield (*self._place(found, "value"), f'"{html.escape(instead, quote=True)}"')
        if local:
            for found in self._found:
                if found["name"].lower() in _WITHOUT_SERVER:
                    yield (*self._place(found, 0), "")

    def _place(self, found: re.Match[str], group: str | int) -> tuple[int, int]:
        start, end = found.span(group)
        return self.start + start, self.start + end

    def _instead(self, name: str, value: str, new: Rewrite) -> str | None:
        """Return the new value of an attribute; None if it is unchanged."""
        if name == "style":
            return rewrite_style(value, new)
        if (self.name, name) in _SETS:
            return _rewrite_set(value, new)
        if self.name == "base" and name == "href":
            return ""
        if self.name == "meta" and name == "content":
            return self._meta(value, new)
        if self.name == "link" and name == "href":
            return new(value, self._role_of_link())
        role = _ATTRIBUTES.get((self.name, name)) or _ATTRIBUTES.get(("*", name))
        return None if role is None else new(value, role)

    def _meta(self, value: str, new: Rewrite) -> str | None:
        match (self.get("http-equiv") or "").strip().lower():
            case "content-security-policy":
                return ""
            case "refresh" if found := _REFRESH.fullmatch(value):
                instead = new(found[3], Role.LINK)
                return None if instead is None else f"{found[1]}{instead}"
        return None

    def _role_of_link(self) -> Role:
        words = (self.get("rel") or "").lower().split()
        roles = [_LINK_TYPES[word] for word in words if word in _LINK_TYPES]
        if "preload" in words:
            return _PRELOADED.get((self.get("as") or "").lower(), Role.DRAWN)
        return roles[0] if roles else Role.LINK


class _Scanner(PageParser):
    """Finds start tags and the content of style elements, with their positions."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: list[_Tag] = []
        self.styles: list[tuple[int, int]] = []
        self._lines: Sequence[int] = [0, *accumulate(len(line) for line in _lines(text))]
        self._open_style: int | None = None
        self.read(text)
        self._end_style(len(text))

    def handle_starttag(self, tag: str, attrs: object) -> None:  # noqa: ARG002  # read as written
        """Record a start tag."""
        written = self.get_starttag_text() or ""
        found = _Tag(tag, written, self._at())
        self.tags.append(found)
        if tag == "style" and not written.endswith("/>"):
            self._open_style = found.end

    def handle_endtag(self, tag: str) -> None:
        """Record the end of a style element."""
        if tag == "style":
            self._end_style(self._at())

    def _end_style(self, at: int) -> None:
        if self._open_style is not None:
            self.styles.append((self._open_style, at))
            self._open_style = None

    def _at(self) -> int:
        line, column = self.getpos()
        return self._lines[line - 1] + column


def _lines(text: str) -> list[str]:
    """Return the lines as the HTML parser counts them: separated by line feeds only."""
    lines = text.split("\n")
    return [f"{line}\n" for line in lines[:-1]] + lines[-1:]


def _value_of(found: re.Match[str]) -> str:
    written = found["value"] or ""
    return html.unescape(written[1:-1] if written[:1] in ("'", '"') else written)


def _rewrite_set(value: str, new: Rewrite) -> str | None:
    """Return a `srcset` without the candidates that cannot be fetched."""
    changed = False
    kept = []
    for address, descriptor in candidates_in_set(value):
        instead = new(address, Role.IMAGE)
        changed |= instead is not None
        if instead != NOTHING:
            kept.append(f"{address if instead is None else instead} {descriptor}".strip())
    return ", ".join(kept) if changed else None
