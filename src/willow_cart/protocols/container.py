"""Object storage in the blob dialect: containers with XML listings, over any web access.

An object's address is an ordinary one, `https://ACCOUNT/CONTAINER/KEY`, and is fetched as such;
only listing is special (List Blobs, service version 2021-12-02).
"""

from __future__ import annotations

from collections.abc import Iterator
from urllib.parse import quote, unquote

from willow_cart.addresses import address_of_key
from willow_cart.errors import TransferFailed
from willow_cart.model import Origin
from willow_cart.protocols.base import Access, DirectoryEntry, ObjectStore, fetch_whole
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.protocols.store_pages import StorePage, open_page, page_by_page
from willow_cart.protocols.web_delivery import read_base64
from willow_cart.redaction import without_secrets
from willow_cart.safe_xml import Element, local_name
from willow_cart.units import read_count


class Container(ObjectStore):
    """A lister of containers.

    Args:
        access: talks to the web, and knows the sign-ins.
    """

    def __init__(self, access: Access) -> None:
        self._access = access

    def list_keys(
        self, bucket: str, prefix: str, *, deep: bool, after: str = ""
    ) -> Iterator[DirectoryEntry]:
        """Yield every object whose key starts with a prefix, reading page by page."""
        query = {"restype": "container", "comp": "list", "prefix": prefix}
        if not deep:
            query["delimiter"] = "/"
        place = bucket.rstrip("/")
        entries = page_by_page(
            bucket,
            query,
            "marker",
            lambda asked: read_page(self._page(f"{place}?{asked}", bucket), bucket),
        )
        return (each for each in entries if not after or _key(each, bucket) > after)

    def _page(self, address: str, bucket: str) -> bytes:
        try:
            return self._access.retrier.run(lambda: fetch_whole(address, self._access)[1])
        except TransferFailed as error:
            error.thing = without_secrets(bucket)
            raise


def read_page(content: bytes, bucket: str) -> StorePage:
    """Parse a page of a listing: its entries, and the marker for the next page, if any.

    Args:
        content: the answer to List Blobs.
        bucket: the address of the container, with a slash at its end.

    Raises:
        ProtocolError: it is invalid.
    """
    root = open_page(content, "EnumerationResults", bucket, "check the address")
    entries = []
    for item in root.iterfind("./{*}Blobs/{*}*"):
        name = item.find("{*}Name")
        if name is None:
            continue
        key = name.text or ""
        if name.get("Encoded") == "true":
            key = unquote(key)
        if local_name(item) == "BlobPrefix":
            entries.append(DirectoryEntry(f"{bucket}{quote(key, safe='/~')}"))
        elif (entry := _entry(item, bucket, key)) is not None:
            entries.append(entry)
    marker = root.find("{*}NextMarker")
    return StorePage(entries, (marker.text or "") if marker is not None else "")


def _entry(item: Element, bucket: str, key: str) -> DirectoryEntry | None:
    """Return an object; None for the empty ones that stand for folders."""
    facts = {local_name(each): each.text or "" for each in item.iterfind("{*}Properties/{*}*")}
    size = facts.get("Content-Length", "")
    if key.endswith("/") and size == "0":
        return None
    return DirectoryEntry(
        address_of_key(bucket, key),
        read_count(size),
        parse_date(facts.get("Last-Modified")),
        checksums=read_base64("md5", facts.get("Content-MD5", ""), Origin.STORE),
        entity_tag=facts.get("Etag", ""),
    )


def _key(entry: DirectoryEntry, bucket: str) -> str:
    return unquote(entry.address[len(bucket) :])
