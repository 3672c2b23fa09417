"""Resolve references on pages as browsers do."""

from __future__ import annotations

import re
from urllib.parse import quote, urljoin

from willow_cart.addresses import normalise, origin_of
from willow_cart.errors import BadAddress
from willow_cart.redaction import without_secrets
from willow_cart.sources.listing import folder_of

_PLAIN = re.compile(r"(/)?[A-Za-z0-9_][A-Za-z0-9_.~-]*(?:/[A-Za-z0-9_][A-Za-z0-9_.~-]*)*/?")
_SCHEME = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*):")
# Browsers read any number of slashes before a host as two (WHATWG URL, 4.4).
_SLASHES = re.compile(r"((?:(?:https?|ftps?|wss?):)?/)/{2,}", re.IGNORECASE)
_LINE_BREAKS = re.compile(r"[\t\n\r]")

# What leads to no file, whatever is after the colon.
_NO_PLACES = frozenset(
    "about blob cid data geo irc javascript mailto news sms tel urn view-source".split()
)


class Resolver:
    """Resolves the references of one page (RFC 3986, 5; WHATWG URL where browsers differ).

    Args:
        base: the page's address, or the one in its `base` element; empty if unknown.
        charset: the page's character set, in which browsers write queries.
    """

    def __init__(self, base: str, charset: str = "utf-8") -> None:
        self._base = base
        self._charset = charset
        self._origin = origin_of(base)
        self._folder = folder_of(base)

    def resolve(self, reference: str) -> str | None:
        """Return the normalised address that a reference resolves to.

        None if it leads to no file.

        Raises:
            BadAddress: no such address, or its base is unknown.
        """
        reference = reference.strip(" \t\n\r\f\v\0")
        if self._base and (plain := _PLAIN.fullmatch(reference)):
            # As most are; the rest of the way takes ten times as long.
            return f"{self._origin if plain[1] else self._folder}{reference}"
        reference = _LINE_BREAKS.sub("", reference)
        if not reference or reference.startswith("#"):
            return None
        scheme = _SCHEME.match(reference)
        if scheme and scheme[1].lower() in _NO_PLACES:
            return None
        if scheme and scheme[1].lower() == "file" and not self._base.startswith("file:"):
            # The author of a page must not decide what is read on this machine.
            raise BadAddress(without_secrets(reference), "is a local file", "name it yourself")
        head, mark, query = reference.partition("?")
        if mark and not query.isascii():
            query = quote(query.encode(self._charset, "xmlcharrefreplace"), safe="%/:@!$&'()*+,;=?")
        head = head.replace("\\", "/")
        if slashes := _SLASHES.match(head):
            head = f"{slashes[1]}/{head[slashes.end() :]}"
        reference = head + mark + query
        if not self._base and not (scheme and "//" in reference):
            raise BadAddress(
                without_secrets(reference), "is relative, and its base is unknown", "give --base"
            )
        try:
            return normalise(urljoin(self._base, reference))
        except ValueError:
            raise BadAddress(
                without_secrets(reference), "not a valid address", "check the spelling"
            ) from None


def sources_in_set(text: str) -> list[str]:
    """Return the addresses in a `srcset` attribute."""
    return [address for address, _ in candidates_in_set(text)]


def candidates_in_set(text: str) -> list[tuple[str, str]]:
    """Return the candidates in a `srcset` attribute (HTML, "Parsing a srcset attribute").

    A comma ends a candidate only where a space or nothing else follows its address.

    Returns:
        The address of each, and what is said of its width or density.
    """
    found = []
    at = 0
    while at < len(text):
        start = at
        while start < len(text) and (text[start].isspace() or text[start] == ","):
            start += 1
        end = start
        while end < len(text) and not text[end].isspace():
            end += 1
        address = text[start:end]
        if not address:
            break
        if address.endswith(","):
            found.append((address.rstrip(","), ""))
            at = end
            continue
        behind = end
        depth = 0
        while end < len(text) and (depth or text[end] != ","):
            depth += (text[end] == "(") - (text[end] == ")" and depth > 0)
            end += 1
        found.append((address, text[behind:end].strip()))
        at = end + 1
    return found
