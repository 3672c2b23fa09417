"""List the content of an address: by the protocol of its server, or from the document it sends."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import BinaryIO
from urllib.parse import urlsplit

from willow_cart.addresses import (
    BEGINNINGS,
    WEB,
    looks_like_address,
    looks_like_host,
    normalise,
    scheme_of,
)
from willow_cart.checks.soft_failures import (
    INSPECTED_BYTES,
    PAGE_TYPES,
    asks_to_sign_in,
    title_of,
)
from willow_cart.errors import NotServed, TransferFailed, UnreadableSource, plainly
from willow_cart.model import Metadata
from willow_cart.protocols import Access, DirectoryLister, Unchanged
from willow_cart.protocols.base import WholeDownload, fetch_whole, read_whole
from willow_cart.protocols.http.http_rules import HOW_TO_SIGN_IN, parse_date
from willow_cart.protocols.kept_answers import Keep
from willow_cart.redaction import without_secrets
from willow_cart.replacing import open_named
from willow_cart.sources.directories import list_directory
from willow_cart.sources.listing import (
    Kind,
    Listing,
    Looking,
    is_catalogue,
    is_packed_sitemap,
    kind_of_document,
    require_folder_address,
)

MAX_LIST_BYTES = 1 << 30
"""The most bytes of a list in a file; larger ones are no lists that a user keeps."""


def read_text(place: str, access: Access) -> str:
    """Read a UTF-8 text from a path or an address; invalid bytes are replaced.

    Raises:
        UsageError: it cannot be fetched, or is too large for what it should be.
    """
    if not looks_like_address(place):
        return read_file(place).decode("utf-8", "replace")
    try:
        facts, content = access.retrier.run(lambda: fetch_whole(normalise(place), access))
    except TransferFailed as error:
        raise UnreadableSource(error.thing, error.reason, error.advice) from None
    if scheme_of(normalise(place)) == "https" and scheme_of(facts.address) == "http":
        # What others are checked by must have come from whom it says.
        raise UnreadableSource(
            without_secrets(place),
            "redirected from https to http",
            "name an address that is not redirected",
        )
    return content.decode("utf-8", "replace")


def read_file(name: str) -> bytes:
    """Read the file of a list.

    Raises:
        UnreadableSource: it cannot be read; the error suggests what was probably meant.
    """
    with open_file(name) as file:
        return file.read(MAX_LIST_BYTES)


def open_file(name: str) -> BinaryIO:
    """Open the file of a list.

    Raises:
        UnreadableSource: it cannot be read; the error suggests what was probably meant.
    """
    path = Path(name)
    try:
        if path.is_dir():
            raise UnreadableSource(name, "is a folder", "name a file with addresses in it")
        return open_named(path)
    except FileNotFoundError:
        meant = f"for an address, {BEGINNINGS}"
        if looks_like_host(name):
            meant = f"did you mean https://{name}?"
        raise UnreadableSource(name, "no such file", f"check its name; {meant}") from None
    except OSError as error:
        raise UnreadableSource(
            name, f"cannot be read: {plainly(error)}", "check the file"
        ) from None


Answer = tuple[Metadata, bytes] | None
"""The answer of a server, if it may be a listing; None for a file."""


def fetch_answer(
    access: Access, address: str, kind: Kind | None, largest: int, keep: Keep | None = None
) -> Answer:
    """Probe an address with retries; return its listing.

    Args:
        kind: its kind, if the user has given it.
        largest: bytes of a document that are read.
        keep: takes the answer if it is a file; None closes it.

    Raises:
        TransferFailed: it does not answer, or with nothing to read.
    """
    return access.retrier.run(lambda: _fetch(access, address, kind, largest, keep))


def _fetch(
    access: Access, address: str, kind: Kind | None, largest: int, keep: Keep | None
) -> Answer:
    delivery = access.open(address)
    assert not isinstance(delivery, Unchanged), "no condition was made"
    facts = delivery.facts
    is_kept = False
    try:
        beginning = b""
        may_list = kind is not None or _may_list(facts)
        if may_list and kind is None and not facts.media_type:
            # A server that names no type may be sending a film.
            beginning = delivery.read()
            may_list = kind_of_document(beginning, facts) is not None
        if may_list:
            return facts, beginning + read_whole(delivery, largest, access.document_seconds)
        if address.endswith("/") and facts.media_type == "text/plain" and not facts.attachment:
            raise _not_a_listing(address, facts)
        if keep is not None:
            is_kept = True
            keep(address, delivery, beginning)
        return None
    finally:
        if not is_kept:
            delivery.close()


def _not_a_listing(address: str, facts: Metadata) -> UnreadableSource:
    return UnreadableSource(
        without_secrets(address),
        f"the answer is {facts.media_type or 'a document'}, not a listing",
        "give --as file to fetch the answer itself",
    )


class Reader:
    """Reads documents; thread-safe.

    Args:
        looking: what counts on pages, and how much of a document is read.
    """

    def __init__(self, access: Access, looking: Looking) -> None:
        self._access = access
        self._looking = looking

    def read(
        self,
        address: str,
        kind: Kind | None,
        source: str,
        answer: Callable[[str], Answer] | None = None,
        keep: Keep | None = None,
    ) -> Listing | None:
        """Read the listing at an address; None if it is a file.

        Args:
            kind: its kind, if the user has given it.
            source: the source that its offers are of.
            answer: gives the answer of a server that was asked already; None asks here.
            keep: takes what was read if it is a file after all.

        Raises:
            TransferFailed: it does not answer, or with nothing to read.
            UnreadableSource: its answer cannot be read.
        """
        lister = self._access.lister(address, webdav=kind is Kind.WEBDAV)
        if isinstance(lister, DirectoryLister):
            return self._list(lister, address, kind, source)
        if kind is Kind.FOLDER:
            address = require_folder_address(address)
        if answer is None:
            answer = partial(
                fetch_answer, self._access, kind=kind, largest=self._looking.largest_listing
            )
        try:
            found = answer(address)
        except (NotServed, UnreadableSource):
            # A server of WebDAV need not show its folders as pages.
            lister = self._webdav_at(address) if kind is None else None
            if lister is None:
                raise
            return self._list(lister, address, Kind.WEBDAV, source)
        if found is None:
            return None
        facts, content = found
        if kind is None:
            _require_let_in(address, facts, content)
        listing = self.understand(content, facts, kind, source)
        _note_answer(listing, facts)
        if listing is None and address.endswith("/") and not facts.attachment:
            # A folder was requested: its index must not be filed as if it were the data.
            raise _not_a_listing(address, facts)
        if listing is None and keep is not None:
            keep(address, WholeDownload(facts, b""), content)
        return listing

    def read_following(self, listing: Listing, source: str) -> Listing | None:
        """Read the next listing of a series; None if it is a file.

        Raises:
            TransferFailed: it does not answer, or with nothing to read.
            UnreadableSource: its answer cannot be read.
        """
        address, body = listing.following, listing.following_body.encode()
        assert address is not None, "the listing names one"
        if not body:
            return self.read(address, listing.kind, source)
        facts, content = self._access.retrier.run(lambda: self._access.post(address, body))
        return self.understand(content, facts, listing.kind, source)

    def _webdav_at(self, address: str) -> DirectoryLister | None:
        """Return the lister of WebDAV if an address is one of its folders."""
        if not address.endswith("/") or scheme_of(address) not in WEB:
            return None
        lister = self._access.lister(address, webdav=True)
        return lister if isinstance(lister, DirectoryLister) and lister.is_at(address) else None

    def _list(
        self, directory: DirectoryLister, address: str, kind: Kind | None, source: str
    ) -> Listing:
        """List a folder by its protocol."""
        listed = kind is Kind.FOLDER and address.endswith("/")
        found = Kind.WEBDAV if kind is Kind.WEBDAV else Kind.FOLDER
        return self._access.retrier.run(
            lambda: list_directory(directory, address, source, listed=listed, kind=found)
        )

    def understand(
        self, content: bytes, facts: Metadata, kind: Kind | None, source: str
    ) -> Listing | None:
        """List the references in a document; None if it is a file.

        Raises:
            UnreadableSource: it is not of the given kind, or broken.
        """
        # What reads documents takes longer to import than a short folder takes to haul.
        from willow_cart.sources.document_reader import DocumentReader

        return DocumentReader(self._access, self._looking).understand(content, facts, kind, source)


def _note_answer(listing: Listing | None, facts: Metadata) -> None:
    """Note what the answer that a listing came in says about it."""
    if listing is None:
        return
    listing.proves_absence &= facts.proves_end
    if (sent := parse_date(facts.validators.date)) is not None:
        listing.clock = (sent - datetime.now(UTC)).total_seconds()


def _may_list(facts: Metadata) -> bool:
    """Whether a response may be a listing; attachments are files."""
    if facts.attachment:
        return False
    media_type = facts.media_type
    if media_type in PAGE_TYPES or not media_type or is_catalogue(facts.address, media_type):
        return True
    if media_type == "application/json":
        return facts.address.endswith("/")
    if is_packed_sitemap(facts.address):
        return True
    is_xml = media_type in ("application/xml", "text/xml") or media_type.endswith("+xml")
    return is_xml and media_type != "image/svg+xml"


def _require_let_in(asked: str, facts: Metadata, content: bytes) -> None:
    """Refuse a sign-in page in place of the requested one.

    Raises:
        UnreadableSource: it is one.
    """
    beginning = content[:INSPECTED_BYTES]
    there, here = urlsplit(facts.address).path, urlsplit(asked).path
    if there.rstrip("/") != here.rstrip("/") and asks_to_sign_in(beginning):
        title = title_of(beginning)
        raise UnreadableSource(
            without_secrets(asked),
            "leads to a sign-in page" + (f', "{title}"' if title else ""),
            HOW_TO_SIGN_IN,
        )
