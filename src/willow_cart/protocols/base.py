"""The interface that each protocol implements, and reading a whole document by it."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterator, Sequence
from datetime import datetime
from enum import Enum
from typing import NamedTuple, Self

from willow_cart.errors import BadAddress, ProtocolError, TimedOut, TransferFailed
from willow_cart.model import Checksum, Metadata, Validators
from willow_cart.protocols.retry import Retrier
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value
from willow_cart.units import format_duration, format_size

CHUNK = 1 << 20
"""The most bytes that one read returns. Smaller pieces cost more processor time for each byte."""


class Unchanged(Value):
    """The server states that the known version is current."""

    facts: Metadata


class Resumability(Enum):
    """Whether the rest of an interrupted transfer can be fetched later."""

    SAFE = "safe"
    """Yes: the validators prove that both parts are of one version."""
    BLIND = "blind"
    """The server may serve ranges, but only a checksum can prove that they belong together."""
    NEVER = "never"
    """No: a later attempt must start over."""


class Download(ABC):
    """A representation that is being received.

    Attributes:
        facts: the server's metadata of the complete representation.
        start: which of its bytes the first read begins with; 0 also when another start was asked
            for and the server could not or would not resume there.
        joining: what a later `open` can do with the bytes that came until a break.
        in_parts: whether the server has said that it serves parts; many do without saying so.
        notes: what the user should know of the answer, although it is taken.
        spent: seconds that were spent on it before it was requested.
        whole: all that would be read, where it has come already; None where it has not.
        line_bytes: how many bytes have come over the line so far, where what is read is unpacked
            from them; None where it is the same.
    """

    facts: Metadata
    start: int
    joining: Resumability
    in_parts: bool = False
    notes: tuple[str, ...] = ()
    spent: float = 0.0
    whole: bytes | None = None

    @property
    def line_bytes(self) -> int | None:
        """Return the bytes received on the line; see above."""
        return None

    @abstractmethod
    def read(self) -> bytes:
        """Return available bytes, waiting for at least one; empty at the end.

        Raises:
            TransferFailed: the bytes stop short of what was announced.
        """

    @abstractmethod
    def close(self) -> None:
        """Release the connection; must be called on every path."""


MAX_SMALL_BYTES = 64 << 10
"""The longest file that `Access.fetch_small` fetches, and that a worker of a cluster fetches with
others. Of a longer one, a part may have to be recorded, which only the coordinator can do."""


class WholeDownload(Download):
    """A representation that was received to its end.

    Args:
        facts: the server's metadata.
        content: its bytes, as far as they are not kept elsewhere.
    """

    start = 0
    joining = Resumability.NEVER

    def __init__(self, facts: Metadata, content: bytes) -> None:
        self.facts = facts
        self.whole = content

    def read(self) -> bytes:
        """Return all bytes, and then none."""
        content, self.whole = self.whole, b""
        return content or b""

    def close(self) -> None:
        """Do nothing."""


class SmallRequest(NamedTuple):
    """A file that is requested together with others.

    Attributes:
        held: the version that is held already; None for none.
    """

    address: str
    held: Validators | None = None


SmallAnswer = Download | Unchanged | TransferFailed | None
"""The whole file, that it is unchanged, why it did not come; None if `open` has to request it."""


# Times of files are to the second, and clocks of servers may differ a little from this one.
_SETTLED_SECONDS = 10.0


def joining_by_time(facts: Metadata, now: datetime) -> Resumability:
    """Return how parts of a file join whose version is identified by its size and time.

    Until that time is past, the file may have another version with the same one.
    """
    modified = facts.modified
    settled = modified is None or (now - modified).total_seconds() > _SETTLED_SECONDS
    return Resumability.SAFE if facts.validators and settled else Resumability.BLIND


class DirectoryEntry(Value):
    """A name in a folder, as listed by the server's protocol.

    Attributes:
        address: where it is; a folder's ends in a slash.
        size: bytes; None for a folder, and if the server does not state it.
        modified: when it was changed last; None if the server does not state it.
        checksums: what its bytes hash to, from the server.
        name: its name, if the address does not show it.
        entity_tag: of this version; empty if the server does not state it.
    """

    address: str
    size: int | None = None
    modified: datetime | None = None
    name: str | None = None
    checksums: tuple[Checksum, ...] = ()
    entity_tag: str = ""

    @property
    def is_folder(self) -> bool:
        """Whether it can be listed."""
        return self.address.endswith("/")


class FolderEntries(Value):
    """The content of a folder.

    Attributes:
        entries: its direct entries, in the server's order.
        problems: lines that could not be read, a clause for each.
    """

    entries: list[DirectoryEntry]
    problems: tuple[str, ...] = ()


class DirectoryLister(ABC):
    """A server that lists folders by its own protocol; thread-safe."""

    def is_at(self, address: str) -> bool:  # noqa: ARG002  # for those that not all servers have
        """Whether the server of an address lists folders in this way."""
        return True

    @abstractmethod
    def find(self, address: str) -> DirectoryEntry | None:
        """Return the entry for an address, with or without the slash of a folder.

        None if nothing.

        Raises:
            TransferFailed: no answer, or an unusable one.
        """

    @abstractmethod
    def entries(self, folder: str) -> FolderEntries:
        """List a folder.

        Args:
            folder: its address, with a slash at its end.

        Raises:
            TransferFailed: it cannot be fetched.
        """


class ObjectStore(ABC):
    """A server that lists objects by key, page by page, from a prefix on."""

    @abstractmethod
    def list_keys(
        self, bucket: str, prefix: str, *, deep: bool, after: str = ""
    ) -> Iterator[DirectoryEntry]:
        """Yield every object whose key starts with a prefix, in the order of the keys.

        Args:
            bucket: the address of the bucket, with a slash at its end.
            prefix: the beginning of the keys.
            deep: whether slashes in keys mean nothing; otherwise what comes up to the next slash
                after the prefix is one entry, a folder.
            after: only keys that sort after this one.

        Raises:
            TransferFailed: it cannot be fetched.
        """


Lister = DirectoryLister | ObjectStore


class Sharing:
    """How other processes reach the servers of an access; this one cannot be shared."""

    def holds(self, address: str) -> bool:  # noqa: ARG002  # for those who keep some
        """Whether a file can be fetched in this process only.

        Its answer is kept here, or its server ends a session that is used elsewhere, too.
        """
        return False

    def reserve(self, address: str) -> float:  # noqa: ARG002  # most keep no gaps
        """Reserve the next turn at a host for another process; return the seconds until then."""
        return 0.0

    def maker(self) -> Callable[[], Access] | None:
        """Return a factory for an equivalent access in another process; None if impossible.

        What is returned can be pickled.
        """
        return None

    def open_maker(
        self,
        hosts: Collection[str],  # noqa: ARG002  # for those who know secrets
    ) -> Callable[[], Access] | None:
        """Return a factory that may be seen by others: it has no secrets, but names of them.

        Args:
            hosts: to which files are requested.

        Returns:
            None if a secret without a name is needed, or if there is no factory.
        """
        return self.maker()


class Access(ABC):
    """Access to servers of one protocol; thread-safe, and a context manager.

    Attributes:
        retrier: makes attempts again where no lane does: at listings and other documents.
        document_seconds: within which such a document must have come; a page may drip without end.
        sharing: how other processes reach the same servers.
    """

    retrier: Retrier = Retrier()
    document_seconds: float = 1800.0
    sharing: Sharing = Sharing()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is not None and not issubclass(kind, Exception):
            self.abort()  # an interrupt does not wait for what is running
        self.close()

    @abstractmethod
    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Request a file.

        Args:
            address: where it is.
            start: the first byte wanted. Above 0, the rest is wanted only if the version is still
                the one that `validators` marks; otherwise the whole is delivered from 0. Without
                validators the caller proves the joined bytes by a checksum.
            end: the byte before which to end, where the rest is not wanted; as above. only of that
                version. A server that cannot end there continues until the delivery is closed.
            validators: with neither `start` nor `end`, the version that is held already: the place
                may answer `Unchanged`.

        Raises:
            TransferFailed: it could not be fetched; the subclass shows whether to retry.
        """

    def files_ahead(self, address: str) -> int:  # noqa: ARG002  # most gain nothing by it
        """Return how many small files of a server should be requested in advance."""
        return 0

    def open_ahead(self, addresses: Sequence[str]) -> None:  # noqa: B027  # as above
        """Request small files that will be opened next, without waiting for them.

        `open` returns the answer for such a file; one that did not come is requested again. What is
        never opened is dropped at the end.

        Args:
            addresses: in the order in which they will be opened.
        """

    def fetches_small(self, address: str) -> bool:  # noqa: ARG002  # as above
        """Whether `fetch_small` can fetch from a server."""
        return False

    def fetch_small(
        self, asked: Sequence[SmallRequest], at_once: int, is_wanted: Callable[[], bool]
    ) -> Iterator[tuple[int, SmallAnswer]]:
        """Request small files of one host in the calling thread, several at a time.

        Args:
            asked: files whose addresses `fetches_small` is true of.
            at_once: how many requests are in flight at a time.
            is_wanted: whether to go on.

        Yields:
            The index of a file among the others, and its answer. That of a busy host ends the
            sending; those in flight still complete. What is not yielded was not requested,
            or its answer was lost.
        """
        raise NotImplementedError

    @abstractmethod
    def ask(self, address: str) -> Metadata:
        """Request the metadata of a file without its content.

        Raises:
            TransferFailed: no answer, or an unusable one.
        """

    def lister(self, address: str, *, webdav: bool = False) -> Lister | None:
        """Return what lists folders or keys; None where documents list them, as on the web.

        Args:
            webdav: whether folders are to be listed by WebDAV, which web servers may have.

        Raises:
            BadAddress: that is wanted, and it is not on the web.
        """
        if webdav:
            raise BadAddress(without_secrets(address), "not a web address", "leave out --as webdav")
        return None

    def post(self, address: str, body: bytes) -> tuple[Metadata, bytes]:  # noqa: ARG002  # as above
        """Send a document in JSON to the web, and read the answer.

        Raises:
            TransferFailed: it is refused, or elsewhere than on the web.
        """
        raise BadAddress(without_secrets(address), "is not on the web", "use https://")

    def contact(self, address: str) -> str:
        """Return the address that is really contacted; usually the same."""
        return address

    def trust(self, address: str) -> None:  # noqa: B027  # most have nothing to do
        """Record that a list of this machine, or the user, named an address.

        Its origin may get the machine's own keys; see `sign_in.origins`.
        """

    def abort(self) -> None:  # noqa: B027  # for those that wait for others
        """End every exchange in progress; each fails, and no new one starts."""

    @abstractmethod
    def close(self) -> None:
        """Release all connections."""


def readable_name(name: bytes) -> str | None:
    """Return a readable form of a name that is not UTF-8; None if the address is readable."""
    try:
        name.decode("utf-8")
    except UnicodeDecodeError:
        return name.decode("cp1252", "replace")
    return None


def too_long(largest: int) -> str:
    """Return the clause for a listing of which only the first `largest` bytes were read."""
    return (
        f"the listing is longer than {format_size(largest)}; the rest was not read"
        " (--largest-listing allows more)"
    )


MAX_DOCUMENT_BYTES = 64 << 20
"""The most bytes of a document that are read; what is longer is a file."""


def fetch_whole(
    address: str, access: Access, largest: int = MAX_DOCUMENT_BYTES
) -> tuple[Metadata, bytes]:
    """Fetch a document in one attempt.

    Raises:
        TransferFailed: it could not be fetched.
        ProtocolError: it is larger than such a document can be.
    """
    delivery = access.open(address)
    assert not isinstance(delivery, Unchanged), "no condition was made"
    try:
        return delivery.facts, read_whole(delivery, largest, access.document_seconds)
    finally:
        delivery.close()


def read_whole(
    delivery: Download, largest: int = MAX_DOCUMENT_BYTES, seconds: float = float("inf")
) -> bytes:
    """Read a download to its end.

    Args:
        delivery: what is read.
        largest: bytes that are read.
        seconds: within which it must have come.

    Raises:
        TransferFailed: it stops short.
        TimedOut: it takes too long.
        ProtocolError: it is larger than such a document can be.
    """
    content = bytearray()
    until = time.monotonic() + seconds
    while piece := delivery.read():
        content += piece
        if time.monotonic() > until:
            raise TimedOut(
                without_secrets(delivery.facts.address),
                f"not complete after {format_duration(seconds)}",
                "try again later",
            )
        if len(content) > largest:
            raise ProtocolError(
                without_secrets(delivery.facts.address),
                f"is more than {format_size(largest)} long, too large for a list or a page",
                "give --as file to take it as a file, or a larger --largest-listing",
            )
    return bytes(content)
