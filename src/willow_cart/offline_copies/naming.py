"""The paths of the original files and of the readable copies."""

from __future__ import annotations

from collections.abc import Mapping
from mimetypes import guess_all_extensions
from urllib.parse import unquote

from willow_cart.addresses import host_of, query_of, segments_of
from willow_cart.kinds import extension_of, stem_of
from willow_cart.model import Offer
from willow_cart.redaction import fingerprint, without_secrets
from willow_cart.structs import Value, field

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
