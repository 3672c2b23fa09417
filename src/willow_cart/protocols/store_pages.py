"""The common part of object store listings: XML, page by page."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple
from urllib.parse import quote, urlencode

from willow_cart.errors import ProtocolError
from willow_cart.protocols.base import DirectoryEntry
from willow_cart.redaction import without_secrets
from willow_cart.safe_xml import BrokenXml, Element, local_name, parse_safely

# A store may send some empty pages while it looks for the next key, but not many.
_MAX_EMPTY_PAGES = 100


class StorePage(NamedTuple):
    """A page of a listing.

    Attributes:
        entries: what it lists.
        token: of the next page; empty after the last.
        is_cut: whether the store states that there is more.
    """

    entries: list[DirectoryEntry]
    token: str
    is_cut: bool = False


def page_by_page(
    bucket: str, query: Mapping[str, str], token_field: str, read: Callable[[str], StorePage]
) -> Iterator[DirectoryEntry]:
    """Yield the entries of a listing, holding one page at a time.

    Args:
        bucket: its address, for messages.
        query: what is requested.
        token_field: where in the query the token of a page goes.
        read: fetches and reads the page that an encoded query requests.

    Raises:
        ProtocolError: it comes to no end, or breaks off.
    """
    token = ""
    seen = set()
    pages = set()
    empty = 0
    while True:
        more = {token_field: token} if token else {}
        asked = urlencode(sorted({**query, **more}.items()), quote_via=quote, safe="~")
        entries, following, is_cut = read(asked)
        # Tokens that are made again each time hide that a listing does not move on.
        empty = 0 if entries else empty + 1
        page = hash((len(entries), *(each.address for each in (entries[:1] + entries[-1:]))))
        if empty > _MAX_EMPTY_PAGES or (entries and page in pages):
            raise _repeats(bucket)
        pages.add(page)
        yield from entries
        if not following and is_cut:
            raise ProtocolError(
                without_secrets(bucket),
                "the store's listing is cut off without a continuation token; files are missing",
                "list it by smaller prefixes",
            )
        if not following:
            return
        if following in seen:
            raise _repeats(bucket)
        seen.add(following)
        token = following


def _repeats(bucket: str) -> ProtocolError:
    return ProtocolError(
        without_secrets(bucket),
        "the store repeats the same pages of the listing",
        "report it to the store",
    )


def open_page(content: bytes, name: str, bucket: str, advice: str) -> Element:
    """Parse a page of a listing.

    Args:
        content: as it came.
        name: what its outermost element has to be called.
        bucket: the address of the bucket.
        advice: what to check if it is invalid.

    Raises:
        ProtocolError: it is invalid.
    """
    shown = without_secrets(bucket)
    try:
        root = parse_safely(content)
    except BrokenXml as error:
        raise ProtocolError(shown, f"invalid XML in the listing: {error}", advice) from None
    if local_name(root) != name:
        raise ProtocolError(shown, "not a listing of this kind of store", advice)
    return root
