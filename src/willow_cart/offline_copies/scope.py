"""The scope of a copy: which links are followed, and where needed files may come from."""

from __future__ import annotations

import re
from enum import StrEnum
from fnmatch import fnmatchcase
from urllib.parse import urlsplit, urlunsplit

from willow_cart.addresses import WEB, host_of, origin_of, scheme_of
from willow_cart.offline_copies.roles import Role
from willow_cart.sources.discovery import PagePart
from willow_cart.sources.listing import folder_of
from willow_cart.structs import Value

# What addresses carry to know visitors again; the page behind is the same. `;jsessionid=` stands in
# the path (Jakarta Servlet, 7.1.3).
_JUNK = re.compile(r"(?:php|j|asp)?sess(?:ion)?[_-]?id\w*|sid|cfid|cftoken|utm_\w+", re.IGNORECASE)
_JUNK_IN_PATH = re.compile(r";(?:jsessionid|sid)=[^/;?#]*", re.IGNORECASE)


class Stay(StrEnum):
    """How far links are followed."""

    FOLDER = "folder"
    """To what lies below the folder that the page is in."""
    HOST = "host"
    """To anything at the page's host."""


class Out(StrEnum):
    """The reason why something is not fetched."""

    AWAY = "leads elsewhere"
    DEEPER = "is deeper than --depth"
    HOST = "is needed, from another host"
    PART = "is of a kind that is not fetched"
    ROBOTS = "disallowed by robots.txt"
    RULE = "was not chosen"


class Scope(Value):
    """The scope of a copy of some pages.

    Attributes:
        pages: the addresses to begin with, in normal form.
        depth: how many levels of links: 1 is these pages alone, None is all.
        stay: how far links are followed.
        also: hosts, as wildcards, from which what pages need may come besides their own.
        parts: what of a page is taken with it; links are followed by depth.
    """

    pages: tuple[str, ...]
    depth: int | None = 1
    stay: Stay = Stay.FOLDER
    also: tuple[str, ...] = ()
    parts: tuple[PagePart, ...] = (
        PagePart.IMAGES,
        PagePart.MEDIA,
        PagePart.STYLES,
        PagePart.SCRIPTS,
    )

    def judge(self, address: str, role: Role) -> Out | None:
        """Return why a reference is not fetched; None if it is, as far as its address tells.

        Depth does not depend on an address and is not checked here.
        """
        if scheme_of(address) not in WEB or role in (Role.ADDRESS, Role.HINT):
            return Out.AWAY
        if role is Role.LINK:
            return None if self._stays(address) else Out.AWAY
        if role is not Role.FRAME and role.part not in self.parts:
            return Out.PART
        host = host_of(address)
        own = {host_of(page) for page in self.pages}
        allowed = host in own or any(fnmatchcase(host, also) for also in self.also)
        return None if allowed else Out.HOST

    def _stays(self, address: str) -> bool:
        if self.stay is Stay.HOST:
            return origin_of(address) in {origin_of(page) for page in self.pages}
        return any(address.startswith(folder_of(page)) for page in self.pages)


def plain_address(address: str) -> str:
    """Return an address without its fragment and tracking parameters.

    The order of a query's other parts stays: they may mean something.
    """
    parts = urlsplit(address)
    path = _JUNK_IN_PATH.sub("", parts.path)
    kept = [
        part
        for part in parts.query.split("&")
        if part and not _JUNK.fullmatch(part.partition("=")[0])
    ]
    return urlunsplit((parts.scheme, parts.netloc, path, "&".join(kept), ""))
