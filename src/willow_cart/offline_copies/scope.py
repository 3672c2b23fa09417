"""The scope of a copy: which links are followed, and where needed files may come from."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from enum import StrEnum
from fnmatch import fnmatchcase
from mimetypes import guess_all_extensions
from urllib.parse import unquote, urlsplit, urlunsplit

from willow_cart.addresses import WEB, host_of, origin_of, query_of, scheme_of, segments_of
from willow_cart.kinds import extension_of, stem_of
from willow_cart.model import Offer
from willow_cart.redaction import fingerprint, without_secrets
from willow_cart.sources.listing import PagePart, folder_of
from willow_cart.structs import Value, field


class Role(StrEnum):
    """The purpose of a reference; all but links are needed to display the page."""

    LINK = "a link"
    """What a user follows."""
    ADDRESS = "an address"
    """Where something is sent to, or by what a page wants to be known; never taken."""
    FRAME = "a frame"
    """A page in the page."""
    IMAGE = "a picture"
    MEDIA = "sound or film"
    STYLE = "a style sheet"
    DRAWN = "drawn by a style sheet"
    """Pictures and fonts that style sheets name."""
    SCRIPT = "a script"
    HINT = "a hint"
    """What a browser may prefetch; useless without a network."""

    @property
    def part(self) -> PagePart:
        """Return the part of a page that it belongs to, for --parts."""
        return _PARTS[self]

    @property
    def is_need(self) -> bool:
        """Whether the page needs it."""
        return self not in (Role.LINK, Role.ADDRESS, Role.HINT)


_PARTS = {
    Role.LINK: PagePart.LINKS,
    Role.ADDRESS: PagePart.LINKS,
    Role.HINT: PagePart.LINKS,
    Role.FRAME: PagePart.LINKS,
    Role.IMAGE: PagePart.IMAGES,
    Role.MEDIA: PagePart.MEDIA,
    Role.STYLE: PagePart.STYLES,
    Role.DRAWN: PagePart.STYLES,
    Role.SCRIPT: PagePart.SCRIPTS,
}

Rewrite = Callable[[str, Role], str | None]
"""What a reference, as it is meant and not as it is escaped, becomes; None leaves it alone."""


# What addresses carry to know visitors again; the page after is the same. `;jsessionid=` is in
# the path (Jakarta Servlet, 7.1.3).
_JUNK = re.compile(r"(?:php|j|asp)?sess(?:ion)?[_-]?id\w*|sid|cfid|cftoken|utm_\w+", re.IGNORECASE)
_JUNK_IN_PATH = re.compile(r";(?:jsessionid|sid)=[^/;?#]*", re.IGNORECASE)


class Stay(StrEnum):
    """How far links are followed."""

    FOLDER = "folder"
    """To what is below the folder that the page is in."""
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


SERVED = "as-served"
"""The folder for everything as it came, byte for byte."""

READABLE = "pages"
"""The folder for what can be read without a network."""

START = "index.html"
"""Where to begin to read."""

_MAX_QUERY_CHARACTERS = 60

# By what a browser knows what a file is, where no type is given; the first is the usual one.
_EXTENSIONS = {
    "text/html": ("html", "htm", "xhtml"),
    "application/xhtml+xml": ("xhtml", "html", "htm"),
    "text/css": ("css",),
    "text/javascript": ("js", "mjs"),
    "application/javascript": ("js", "mjs"),
    "image/svg+xml": ("svg",),
    "image/jpeg": ("jpg", "jpeg"),
    "image/png": ("png",),
    "image/x-icon": ("ico",),
    "font/woff2": ("woff2",),
}


def shape_of(address: str, index: str = START) -> str:
    """Return the path of an address: folders for its host and for its path.

    A folder's page is its index, and what a query requests is part of the name, so that every
    answer has a name of its own that is the same every time.
    """
    *folders, name = segments_of(address) or [""]
    name = name or index
    if query := unquote(query_of(without_secrets(address))):
        if len(query) > _MAX_QUERY_CHARACTERS:
            query = f"{query[: _MAX_QUERY_CHARACTERS // 2]}~{fingerprint(query)}"
        ending = extension_of(name)
        name = f"{stem_of(name)}~{query}" + (f".{ending}" if ending else "")
    parts = (part.replace("/", "_") for part in (*folders, name))
    return "/".join((host_of(address).replace(":", "_"), *parts))


class AsServed(Value):
    """The filing rule for the original files."""

    def wish_for(self, offer: Offer) -> str:
        """Return the path below the destination."""
        # A folder's page has another name than what may be called index there, and a page another
        # one than a folder of its name.
        path = shape_of(offer.address, f"~{START}")
        return f"{SERVED}/{path}" + ("" if extension_of(path.rpartition("/")[2]) else "~")


class ReadableCopy(Value):
    """The filing rule for readable copies; names get the extension of their type.

    Attributes:
        media_types: what each address is, without parameters; empty if unknown.
    """

    media_types: Mapping[str, str] = field(default_factory=dict)

    def wish_for(self, offer: Offer) -> str:
        """Return the path below the destination."""
        path = shape_of(offer.address)
        media_type = self.media_types.get(offer.address, "")
        extension = extension_of(path.rpartition("/")[2])
        known = _EXTENSIONS.get(media_type, ())
        if not known and not extension and media_type != "application/octet-stream":
            known = tuple(each.lstrip(".") for each in guess_all_extensions(media_type))
        if known and extension not in known:
            path += f".{known[0]}"
        return f"{READABLE}/{path}"
