"""SFTP (draft-ietf-secsh-filexfer-02, the protocol's version 3) through asyncssh.

An address is `sftp://[user@]host[:port]/path`; its path begins at the root of the server, and
`/~/` at the home folder of the user.
"""

from __future__ import annotations

import stat
import threading
import time
from collections import defaultdict, deque
from collections.abc import Callable, Coroutine, Iterator, Sequence
from concurrent.futures import CancelledError, Future, wait
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, cast
from urllib.parse import quote, unquote_to_bytes, urlsplit

from willow_cart.addresses import host_of, origin_of
from willow_cart.defaults import STALL_SECONDS
from willow_cart.errors import ConnectionLost, NotServed
from willow_cart.model import Metadata, Validators
from willow_cart.outside_values import moment_at
from willow_cart.protocols.base import (
    CHUNK,
    MAX_DOCUMENT_BYTES,
    Access,
    DirectoryEntry,
    DirectoryLister,
    Download,
    FolderEntries,
    Lister,
    Unchanged,
    joining_by_time,
    readable_name,
    too_long,
)
from willow_cart.protocols.sftp.sftp_pool import HostKeys, Session, SftpConnections
from willow_cart.protocols.sockets import RequestPacer
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.sign_ins import SignIns
from willow_cart.structs import Record, field, replace
from willow_cart.units import count_of, printable

if TYPE_CHECKING:
    from willow_cart.protocols.router import AccessSettings


if TYPE_CHECKING:
    from willow_cart.protocols.sftp.sftp_pool import Session, SftpConnections

FIRST_READ_BYTES = 64 << 10
"""What is read with the attributes; most small files are whole then."""

# A block is requested in as many reads as the server allows for one, all at once; while one block
# is written and hashed, the next ones come.
_MAX_BLOCK_BYTES = 4 << 20
_BLOCKS_ON_THE_WAY = 2

# A block says nothing until it is there, so on a slow line small ones are requested.
_MIN_BLOCK_BYTES = 16 << 10
_FIRST_BLOCK_BYTES = 256 << 10
_QUICK_SECONDS, _SLOW_SECONDS = 0.5, 2.0


class SftpDownload(Download):
    """A file that is read in blocks.

    Args:
        pool: of the session.
        session: where the file is open; None if it is closed, because its first bytes are all.
        file: what asyncssh knows it by; None as above.
        facts: what is known of it.
    """

    in_parts = True

    def __init__(
        self, pool: SftpConnections, session: Session | None, file: Any, facts: Metadata
    ) -> None:
        self.facts = facts
        self.start = 0
        self.joining = joining_by_time(facts, datetime.now(UTC))
        self._pool = pool
        self._session = session
        self._file = file
        self._end: int | None = None
        self._at = 0
        self._ready = memoryview(b"")
        self._coming: deque[tuple[int, Future[bytes]]] = deque()
        self._ended = False
        self._block_bytes = _FIRST_BLOCK_BYTES
        self._came_at = time.monotonic()

    def begin(self, start: int, end: int | None, beginning: bytes | None) -> None:
        """Begin at a byte.

        Args:
            start: the byte.
            end: the byte before which to end; None for the file's end.
            beginning: what was read from there already; None for nothing.
        """
        self.start = start
        # Some servers say that files have no bytes that are made when they are read. One byte more
        # is requested than announced, which shows if there are more.
        length = self.facts.length
        self._end = length and length + 1 if end is None else end
        if length == 0 and beginning:
            self._end = None
            self.facts = replace(self.facts, length=None)
        self._ready = memoryview(beginning or b"")
        self._at = start + len(self._ready)
        if beginning is not None:
            left = FIRST_READ_BYTES if self._end is None else self._end - start
            self._ended = self._file is None or len(beginning) < min(left, FIRST_READ_BYTES)
        self._request()

    def read(self) -> bytes:
        """Return the next bytes; empty at the end.

        Raises:
            TransferFailed: the connection was lost, or the file is shorter than it was.
        """
        if not self._ready and self._coming:
            wanted, coming = self._coming.popleft()
            self._ready = memoryview(self._received(coming))
            self._adapt()
            if len(self._ready) < wanted:
                # It ends here, whatever is further on: blocks must follow each other.
                self._ended = True
                self._drop()
            self._request()
        size = len(self._ready) if len(self._ready) <= CHUNK + 1 else CHUNK
        piece = bytes(self._ready[:size])
        self._ready = self._ready[size:]
        return piece

    def _adapt(self) -> None:
        """Request larger blocks while they come quickly, and smaller ones on a slow line."""
        took = time.monotonic() - self._came_at
        self._came_at += took
        if took < _QUICK_SECONDS:
            self._block_bytes = min(2 * self._block_bytes, _MAX_BLOCK_BYTES)
        elif took > _SLOW_SECONDS:
            self._block_bytes = max(self._block_bytes // 4, _MIN_BLOCK_BYTES)

    def _received(self, coming: Future[bytes]) -> bytes:
        try:
            return self._pool.wait_for(self.facts.address, coming, self._pool.stall_after)
        except NotServed as error:
            # It has opened the file, so this is about one read of it.
            raise ConnectionLost(error.thing, error.reason, "try again later") from error

    def _request(self) -> None:
        """Keep some blocks in flight."""
        while len(self._coming) < _BLOCKS_ON_THE_WAY and not self._ended:
            left = self._block_bytes if self._end is None else self._end - self._at
            if left <= 0:
                return
            size = left if left <= self._block_bytes + 1 else self._block_bytes
            self._coming.append((size, self._pool.start(self._file.read(size, self._at))))
            self._at += size

    def close(self) -> None:
        """Close the file; reads in flight are dropped."""
        session, self._session = self._session, None
        if session is None:
            return
        self._drop()
        if self._file is not None:
            self._pool.close_file(session, self._file)
        self._pool.release(session)

    def _drop(self) -> None:
        for _, coming in self._coming:
            coming.cancel()
        self._coming.clear()


SmallFile = tuple[Any, bytes]
"""The attributes and the bytes of a file."""

FILES_AHEAD = 16
"""Enough to keep a server busy; each is held in memory, up to the size of a first read."""

# Files that are never asked for, such as those of a host that was given up, are dropped then.
_MOST_KEPT = 256


class SmallFilesAhead:
    """The requests in flight; thread-safe.

    Args:
        pool: the connections.
        request: requests a file, in a session, by its address; returns None for a larger one.
    """

    def __init__(
        self,
        pool: SftpConnections,
        request: Callable[[Session, str], Coroutine[Any, Any, SmallFile | None]],
    ) -> None:
        self._pool = pool
        self._request = request
        self._coming: dict[str, Future[SmallFile | None]] = {}
        self._unsuited: set[str] = set()
        self._lock = threading.Lock()

    def begin(self, addresses: Sequence[str]) -> None:
        """Request files of connected servers, without waiting for them."""
        by_session: defaultdict[Session, list[str]] = defaultdict(list)
        for address in addresses:
            session = self._pool.standing(address)
            if session is not None and session.origin not in self._unsuited:
                by_session[session].append(address)
        for session, those in by_session.items():
            answers = self._pool.start_all([self._request(session, each) for each in those])
            with self._lock:
                self._coming.update(zip(those, answers, strict=True))
                for address in [*self._coming][:-_MOST_KEPT]:
                    del self._coming[address]

    def take(self, address: str) -> SmallFile | None:
        """Return the answer for a file; None if it has to be requested.

        Raises:
            TransferFailed: the server does not answer.
        """
        with self._lock:
            coming = self._coming.pop(address, None)
        if coming is None:
            return None
        try:
            return coming.result(self._pool.stall_after)
        except TimeoutError as error:
            raise self._pool.translate(error, address) from error
        except (Exception, CancelledError) as error:
            failure = self._pool.translate(error, address)
            if not (isinstance(failure, NotServed) and failure.status in (403, 404)):
                self._do_without(origin_of(address))
            return None

    def _do_without(self, origin: str) -> None:
        """Request no more files of a server ahead; wait for those in flight."""
        self._unsuited.add(origin)
        with self._lock:
            coming = [
                each for address, each in self._coming.items() if origin_of(address) == origin
            ]
        wait(coming, self._pool.stall_after)


# Names come in answers of a hundred or so; this is about what one takes on the line.
_ENTRY_BYTES = 100


def connect(settings: AccessSettings) -> SftpAccess:
    """Build the access to SFTP servers from the settings."""
    return SftpAccess(
        sign_ins=settings.sign_ins,
        host_keys=HostKeys(settings.connecting.host_key),
        stall_after=settings.pace.stall_after,
        longest=settings.pace.time_per_file,
        largest_listing=settings.connecting.largest_listing,
        pacer=settings.pacer,
    )


class SftpAccess(Access, DirectoryLister):
    """Access to SFTP servers.

    Args:
        sign_ins: the credentials for each origin; the agent and the keys in `~/.ssh` are tried as
            well.
        host_keys: which servers are trusted.
        stall_after: seconds without a byte after which a connection is given up.
        longest: seconds after which a listing is given up; None for `document_seconds` as usual.
        largest_listing: bytes of a listing that are read, roughly.
        pacer: keeps gaps between requests; None for no gaps.
    """

    def __init__(
        self,
        *,
        sign_ins: SignIns | None = None,
        host_keys: HostKeys | None = None,
        stall_after: float = STALL_SECONDS,
        longest: float | None = None,
        largest_listing: int = MAX_DOCUMENT_BYTES,
        pacer: RequestPacer | None = None,
    ) -> None:
        if longest is not None:
            self.document_seconds = longest
        self._stall_after = stall_after if longest is None else min(stall_after, longest)
        self._largest_listing = largest_listing
        self._pool = SftpConnections(
            sign_ins=SignIns() if sign_ins is None else sign_ins,
            host_keys=host_keys or HostKeys(),
            stall_after=self._stall_after,
            pacer=pacer,
        )
        self._ahead = SmallFilesAhead(self._pool, _open_by_address)

    # The seam

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Open a file; its size and modification time identify its version.

        Its attributes and its first bytes are requested at once, which saves a round trip.
        """
        self._pool.wait_turn(host_of(address))
        small = self._ahead.take(address)
        came = (None, *small) if small and not start and end is None else None
        session = None
        try:
            if came is None:
                session = self._pool.take(address)
                request = _open(session, _path_of(address), start, end)
                came = self._pool.run(address, request, self._stall_after)
            file, attributes, beginning = came
            facts = _facts(address, attributes)
            same = validators is not None and facts.validators == validators and bool(validators)
            delivery = SftpDownload(self._pool, session, file, facts)
            if same and not start and end is None:
                delivery.close()
                return Unchanged(facts)
            if same or (start and validators is None):
                delivery.begin(start, end, beginning)
            else:
                delivery.begin(0, None, beginning if not start else None)
        except BaseException:
            if session is not None:
                self._pool.release(session)
            raise
        return delivery

    def files_ahead(self, address: str) -> int:  # noqa: ARG002  # the same for all
        """Return how many small files should be requested ahead; see `Access.files_ahead`."""
        return FILES_AHEAD

    def open_ahead(self, addresses: Sequence[str]) -> None:
        """Request small files over open connections; see `Access.open_ahead`."""
        self._ahead.begin(addresses)

    def ask(self, address: str) -> Metadata:
        """Request the size and the time of a file."""
        with self._pool.lend(address) as session:
            attributes = self._pool.run(
                address, session.sftp.stat(_path_of(address)), self._stall_after
            )
        facts = _facts(address, attributes)
        if stat.S_ISDIR(attributes.permissions or 0):
            raise NotServed(without_secrets(address), "is a folder", "add a slash", status=404)
        return facts

    def lister(self, address: str, *, webdav: bool = False) -> Lister | None:
        """Return this object."""
        return super().lister(address, webdav=True) if webdav else self

    def abort(self) -> None:
        """End every exchange; see `Access.abort`."""
        self._pool.abort()

    def close(self) -> None:
        """Close all connections."""
        self._pool.close()

    # The directory

    def find(self, address: str) -> DirectoryEntry | None:
        """Return the entry for an address, with or without the slash of a folder."""
        bare = address.rstrip("/")
        if bare.count("/") < 3:
            return DirectoryEntry(f"{bare}/")
        with self._pool.lend(address) as session:
            try:
                attributes = self._pool.run(
                    address, session.sftp.stat(_path_of(bare)), self._stall_after
                )
            except NotServed as error:
                if error.status == 404:
                    return None
                raise
        if stat.S_ISDIR(attributes.permissions or 0):
            return DirectoryEntry(f"{bare}/")
        return DirectoryEntry(bare, attributes.size, _moment(attributes))

    def entries(self, folder: str) -> FolderEntries:
        """List a folder, sorted by name, because servers list in any order."""
        with self._pool.lend(folder) as session:
            most = max(1, self._largest_listing // _ENTRY_BYTES)
            found = self._pool.run(
                folder, _list(session, _path_of(folder), most), self.document_seconds
            )
        entries = []
        for name, attributes in sorted(found.listed, key=lambda each: each[0]):
            address = folder + quote(name, safe="~")
            if stat.S_ISDIR(attributes.permissions or 0):
                entries.append(DirectoryEntry(f"{address}/", None, _moment(attributes)))
            elif stat.S_ISREG(attributes.permissions or 0) or attributes.permissions is None:
                moment = _moment(attributes)
                entries.append(
                    DirectoryEntry(address, attributes.size, moment, readable_name(name))
                )
        return FolderEntries(entries, tuple(self._problems(found)))

    def _problems(self, found: _Names) -> Iterator[str]:
        """Yield what of a listing could not be taken, a clause for each kind."""
        for names, what in ((found.broken, "link"), (found.odd, "name")):
            if names:
                why = "leads to no file" if what == "link" else "cannot be one of a file"
                count = count_of(len(names), what)
                example = printable(names[0].decode("utf-8", "replace"))
                yield f"{count} left out, such as {example!r}, which {why}"
        if found.is_cut:
            yield too_long(self._largest_listing)


async def _open(
    session: Session, path: bytes, start: int, end: int | None
) -> tuple[Any, Any, bytes]:
    """Open a file; return it, its attributes, and its first bytes from a start.

    A file that is whole with its first bytes is closed already, and None is returned for it. It
    is read without the machinery for parallel reads, which takes longer than everything else.
    """
    if not start and end is None and (small := await _open_small(session, path)):
        return None, *small
    size = FIRST_READ_BYTES if end is None else min(FIRST_READ_BYTES, end - start)
    return await _begin(session, path, start, size, -1)


async def _open_by_address(session: Session, address: str) -> SmallFile | None:
    return await _open_small(session, _path_of(address))


async def _open_small(session: Session, path: bytes) -> SmallFile | None:
    """Read a small file; return None if it is larger."""
    file, attributes, beginning = await _begin(session, path, 0, FIRST_READ_BYTES, 0)
    session.close_later(file)
    return (attributes, beginning) if len(beginning) == attributes.size else None


async def _begin(
    session: Session, path: bytes, start: int, size: int, block_size: int
) -> tuple[Any, Any, bytes]:
    """Open a file, and request its attributes and some bytes at once.

    Args:
        session: where it is.
        start: its first byte to read.
        size: how many bytes.
        block_size: in which it is read; 0 for one request for each read, -1 for what the server
            allows, with several requests at a time.
    """
    import asyncio

    file = await session.sftp.open(path, "rb", encoding=None, block_size=block_size)
    reading = asyncio.ensure_future(file.read(size, start))
    try:
        attributes = await file.stat()
        return file, attributes, cast(bytes, await reading)
    except BaseException:
        reading.cancel()
        await file.close()
        raise


class _Names(Record):
    """The names in a folder.

    Attributes:
        listed: with the attributes of their targets.
        broken: links that lead to nothing.
        odd: names that no file can have.
        is_cut: whether there were more than were wanted.
    """

    listed: list[tuple[bytes, Any]] = field(default_factory=list)
    broken: list[bytes] = field(default_factory=list)
    odd: list[bytes] = field(default_factory=list)
    is_cut: bool = False


async def _list(session: Session, path: bytes, most: int) -> _Names:
    """List a folder, up to a number of names."""
    from asyncssh import SFTPError

    names = _Names()
    async for entry in session.sftp.scandir(path):
        name, attributes = cast(bytes, entry.filename), entry.attrs
        if name in (b".", b".."):
            continue
        if not name or b"/" in name or b"\0" in name:
            names.odd.append(name)
            continue
        if stat.S_ISLNK(attributes.permissions or 0):
            try:
                attributes = await session.sftp.stat(path.rstrip(b"/") + b"/" + name)
            except SFTPError:
                names.broken.append(name)
                continue
        names.listed.append((name, attributes))
        if len(names.listed) + len(names.odd) + len(names.broken) >= most:
            names.is_cut = True
            break
    return names


def _path_of(address: str) -> bytes:
    """Return the path to send: from the root, or from the home folder after `/~/`."""
    path = unquote_to_bytes(urlsplit(address).path) or b"/"
    if b"\0" in path:
        raise NotServed(without_secrets(address), "contains a null byte", "check it", status=400)
    if path == b"/~" or path.startswith(b"/~/"):
        return path[3:].rstrip(b"/") or b"."
    return path if path == b"/" else path.rstrip(b"/")


def _facts(address: str, attributes: Any) -> Metadata:
    size, time_ = attributes.size, attributes.mtime
    mark = f'"{size}-{time_}"' if size is not None and time_ is not None else None
    return Metadata(address, size, Validators(entity_tag=mark), _moment(attributes))


def _moment(attributes: Any) -> datetime | None:
    return moment_at(attributes.mtime)
