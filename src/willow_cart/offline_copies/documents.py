"""Open documents that contain references: pages, style sheets and drawings."""

from __future__ import annotations

from enum import Enum

from willow_cart.checks.soft_failures import INSPECTED_BYTES, looks_like_page
from willow_cart.destination import FileTree
from willow_cart.errors import BadAddress
from willow_cart.kinds import extension_of
from willow_cart.ledger.entries import Arrival
from willow_cart.offline_copies.page_rewriting import Markup
from willow_cart.offline_copies.scope import Rewrite, Role
from willow_cart.offline_copies.styles import rewrite_style
from willow_cart.protocols.http.http_rules import parse_content_type
from willow_cart.sources.web_pages.markup import decode_page
from willow_cart.sources.web_pages.references import Resolver
from willow_cart.structs import Value

# No page is longer; what is has no references of use.
_MAX_DOCUMENT_BYTES = 64 << 20


class DocumentSort(Enum):
    """The type of a document that contains references."""

    PAGE = "page"
    STYLE = "style sheet"
    DRAWING = "drawing"


_SORTS = {
    "text/html": DocumentSort.PAGE,
    "application/xhtml+xml": DocumentSort.PAGE,
    "text/css": DocumentSort.STYLE,
    "image/svg+xml": DocumentSort.DRAWING,
}


class OfflineDocument(Value):
    """A document whose references can be replaced; all other bytes stay the same.

    Attributes:
        content: what it says, in which bytes that are none of its character set are kept.
        codec: by which that is written again.
        label: its character set, where only its server has stated it; empty otherwise.
        resolver: for its references.
    """

    sort: DocumentSort
    content: Markup | str
    codec: str
    label: str
    resolver: Resolver

    def rewrite(self, new: Rewrite) -> bytes:
        """Return its bytes with other references."""
        if isinstance(self.content, str):
            text = rewrite_style(self.content, new)
        else:
            text = self.content.rewritten(new, self.label)
        return text.encode(self.codec, "surrogateescape")

    @property
    def media_type(self) -> str:
        """Return its actual media type, whatever the server sent."""
        return next(name for name, sort in _SORTS.items() if sort is self.sort)

    @property
    def title(self) -> str:
        """Return the title of a page in one line; empty if missing."""
        title = "" if isinstance(self.content, str) else self.content.title
        title = title.encode(self.codec, "surrogateescape").decode(self.codec, "replace")
        return "".join(each if each.isprintable() else " " for each in title)

    @property
    def canonical(self) -> str | None:
        """Return the normalised canonical address of a page, or None."""
        if isinstance(self.content, str) or not (written := self.content.canonical):
            return None
        try:
            return self.resolver.resolve(written)
        except BadAddress:
            return None


def media_type_of(arrival: Arrival) -> str:
    """Return the media type without parameters; empty if the server sent none."""
    return parse_content_type(arrival.media_type or None)[0]


def open_document(tree: FileTree, arrival: Arrival, role: Role) -> OfflineDocument | None:
    """Open a file; return None if it cannot contain references.

    Args:
        tree: the destination.
        arrival: its ledger entry.
        role: what it was wanted for; tells what it is where its server did not.

    Raises:
        OSError: it cannot be read.
    """
    if arrival.size > _MAX_DOCUMENT_BYTES:
        return None
    media_type, charset = parse_content_type(arrival.media_type or None)
    sort = _SORTS.get(media_type)
    if sort is None and media_type in ("", "text/plain", "application/octet-stream"):
        sort = _sort_of(tree, arrival.lies_at, role)
    if sort is None:
        return None
    with tree.open(arrival.lies_at) as file:
        content = file.read(_MAX_DOCUMENT_BYTES)
    if sort is DocumentSort.STYLE:
        codec = _lossless(content, charset or "utf-8")
        return OfflineDocument(sort, content.decode(codec, "surrogateescape"), codec, "",
                        _resolver(arrival.final_address, "", "utf-8"))  # fmt: skip
    used = decode_page(content, charset)[1]
    codec = _lossless(content, used)
    markup = Markup(content.decode(codec, "surrogateescape"))
    # What the page says without its server must be what the server said.
    label = charset if charset and decode_page(content)[1] != used else ""
    base = "" if sort is DocumentSort.DRAWING else markup.base
    return OfflineDocument(sort, markup, codec, label, _resolver(arrival.final_address, base, used))


def _sort_of(tree: FileTree, path: str, role: Role) -> DocumentSort | None:
    """Return the type of a document from its content."""
    ending = extension_of(path.rpartition("/")[2])
    if role is Role.STYLE or ending == "css":
        return DocumentSort.STYLE
    if ending == "svg":
        return DocumentSort.DRAWING
    with tree.open(path) as file:
        return DocumentSort.PAGE if looks_like_page(file.read(INSPECTED_BYTES)) else None


def _lossless(content: bytes, charset: str) -> str:
    """Return a lossless codec: the document's character set, or one that maps all bytes.

    References are mostly ASCII, which nearly every character set writes alike.
    """
    try:
        if content.decode(charset, "surrogateescape").encode(charset, "surrogateescape") == content:
            return charset
    except (LookupError, ValueError):
        pass
    return "latin-1"


def _resolver(address: str, base: str, charset: str) -> Resolver:
    """Return the base address for a document's references (HTML, "Document base URLs")."""
    if base:
        try:
            return Resolver(Resolver(address).resolve(base) or address, charset)
        except BadAddress:
            pass
    return Resolver(address, charset)
