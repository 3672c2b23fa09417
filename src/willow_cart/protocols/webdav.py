"""Folders of WebDAV servers (RFC 4918): listed by PROPFIND, with exact sizes, times and tags.

Files are fetched as on the web; only listing is special.
"""

from __future__ import annotations

from typing import Protocol
from urllib.parse import urljoin, urlsplit

from willow_cart.addresses import normalise, origin_of
from willow_cart.errors import BadAddress, NotServed, ProtocolError
from willow_cart.protocols.base import DirectoryEntry, DirectoryLister, FolderEntries
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.redaction import without_secrets
from willow_cart.safe_xml import BrokenXml, Element, parse_safely
from willow_cart.units import count_of, read_count

_DAV = "{DAV:}"


class Properties(Protocol):
    """The properties of resources by WebDAV."""

    def properties(self, address: str, depth: int) -> tuple[str, bytes]:
        """Return the final address, and a multi-status document (RFC 4918, 9.1 and 13)."""

    def has_properties(self, address: str) -> bool:
        """Whether the server of an address states that it has WebDAV."""


class WebDav(DirectoryLister):
    """A lister of the folders of a WebDAV server.

    Args:
        access: talks to the web.
    """

    def __init__(self, access: Properties) -> None:
        self._access = access

    def is_at(self, address: str) -> bool:
        """Whether the server of an address has WebDAV."""
        return self._access.has_properties(address)

    def find(self, address: str) -> DirectoryEntry | None:
        """Return the entry for an address, with or without the slash of a folder."""
        try:
            final, content = self._access.properties(address, 0)
        except NotServed as error:
            if error.status in (404, 410):
                return None
            raise
        for response in _responses(final, content):
            entry = _entry(response, final)
            if entry is not None and entry.address.rstrip("/") == final.rstrip("/"):
                return entry
        return None

    def entries(self, folder: str) -> FolderEntries:
        """List a folder by its members' properties, in the server's order."""
        final, content = self._access.properties(folder, 1)
        top = f"{final.rstrip('/')}/"
        entries, odd = [], []
        for response in _responses(final, content):
            entry = _entry(response, final)
            name = entry.address.removeprefix(top).rstrip("/") if entry else ""
            if entry is None or not entry.address.startswith(top) or "/" in name:
                if entry is None or entry.address.rstrip("/") != final.rstrip("/"):
                    odd.append(_href(response))
            elif name:
                entries.append(entry)
        problems = []
        if odd:
            count = count_of(len(odd), "entry", "entries")
            problems.append(
                f"{count} of the listing left out, not in the folder: {without_secrets(odd[0])}"
            )
        return FolderEntries(entries, tuple(problems))


def _responses(address: str, content: bytes) -> list[Element]:
    """Return the responses of a multi-status document (RFC 4918, 14.16).

    Raises:
        ProtocolError: it is something else.
    """
    try:
        root = parse_safely(content)
    except BrokenXml as error:
        raise ProtocolError(
            without_secrets(address), f"invalid WebDAV answer: {error}", "use another --as"
        ) from None
    if root.tag != f"{_DAV}multistatus":
        raise ProtocolError(without_secrets(address), "not a WebDAV answer", "use another --as")
    return root.findall(f"{_DAV}response")


def _href(response: Element) -> str:
    return (response.findtext(f"{_DAV}href") or "").strip()


def _entry(response: Element, base: str) -> DirectoryEntry | None:
    """Return the entry of a member; None if it is on another server, or cannot be requested."""
    try:
        address = normalise(urljoin(base, _href(response)))
    except (BadAddress, ValueError):
        return None
    if origin_of(address) != origin_of(base) or urlsplit(address).query:
        return None
    found = [
        properties
        for part in response.findall(f"{_DAV}propstat")
        if " 200" in (part.findtext(f"{_DAV}status") or " 200")
        for properties in part.findall(f"{_DAV}prop")
    ]

    def value(name: str) -> str | None:
        return next(
            (text for each in found if (text := each.findtext(f"{_DAV}{name}")) is not None), None
        )

    modified = parse_date(value("getlastmodified"))
    if any(each.find(f"{_DAV}resourcetype/{_DAV}collection") is not None for each in found):
        return DirectoryEntry(f"{address.rstrip('/')}/", None, modified)
    return DirectoryEntry(address, read_count(value("getcontentlength") or ""), modified)
