"""Keep the responses of probes, which become the download.

There are links that can be asked once, and every request costs its server something. An answer that
turns out to be a file is therefore not thrown away: a small one is read to its end, a large one is
left open, and the haul continues with it.
"""

from __future__ import annotations

import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Collection, Container, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO, cast

from willow_cart.addresses import host_of
from willow_cart.errors import ServerBusy, TransferFailed, TransientError
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import (
    CHUNK,
    Access,
    Download,
    Lister,
    Sharing,
    SmallAnswer,
    SmallRequest,
    Unchanged,
)
from willow_cart.protocols.retry import RetryPolicy
from willow_cart.redaction import without_secrets

# Smaller responses are read at once, which frees the connection; larger ones stay open.
_MAX_READ_BYTES = 16 << 20

# Longer ones are received by the haul, which shows and resumes them.
_MAX_READ_SECONDS = 1.0

# Kept in memory below this, beyond it in a file without a name.
_MAX_MEMORY_BYTES = 256 << 10

# What all kept responses together may take; what is beyond that is requested again in its turn.
_MAX_ALL_MEMORY_BYTES = 16 << 20
_MAX_FILES = 64
_MAX_ALL_FILE_BYTES = 1 << 30

Keep = Callable[[str, Download, bytes], None]
"""Takes an answer that is a file: its address, and the beginning that was read of it already."""


class _KeptSharing(Sharing):
    """The sharing of an access whose responses are kept here.

    Args:
        sharing: of the access.
        kept: the addresses of the responses.
    """

    def __init__(self, sharing: Sharing, kept: Container[str]) -> None:
        self._sharing = sharing
        self._kept = kept

    def holds(self, address: str) -> bool:
        """Whether a response is kept; see `Sharing.holds`."""
        return address in self._kept or self._sharing.holds(address)

    def reserve(self, address: str) -> float:
        """Reserve the next turn at a host; see `Sharing.reserve`."""
        return self._sharing.reserve(address)

    def maker(self) -> Callable[[], Access] | None:
        """Return a factory for an equivalent access; see `Sharing.maker`."""
        return self._sharing.maker()

    def open_maker(self, hosts: Collection[str]) -> Callable[[], Access] | None:
        """Return a factory without secrets; see `Sharing.open_maker`."""
        return self._sharing.open_maker(hosts)


class KeptAnswers(Access):
    """An access that returns kept responses to their first caller, and passes on other requests.

    Args:
        access: asks.
        folder: on the disk where bytes are kept.
        most_open: how many large answers of one host are left open; further ones are requested
            again when their turn comes.
    """

    def __init__(self, access: Access, folder: Path, most_open: int) -> None:
        self._access = access
        self._folder = str(folder)
        self._most_open = most_open
        self._kept: dict[str, _KeptDelivery] = {}
        self._open: Counter[str] = Counter()
        self._budget = _Budget()
        self._lock = threading.Lock()
        self.retrier = access.retrier
        self.document_seconds = access.document_seconds
        self.sharing = _KeptSharing(access.sharing, self._kept)

    def keep(self, address: str, delivery: Download, beginning: bytes) -> None:
        """Keep a response, or close it if too many of its host are open.

        Raises:
            TransferFailed, OSError: never; an answer that breaks off is requested again.
        """
        if not self._budget.has_room:
            delivery.close()
            return
        kept = _KeptDelivery(delivery, self._file())
        try:
            is_kept = (
                kept.read_ahead(beginning, _MAX_READ_SECONDS)
                or self._leave_open(host_of(address))
                or kept.read_ahead(b"", float("inf"))
            )
            kept.rewind()
        except (TransferFailed, OSError):
            is_kept = False
        if not (is_kept and self._budget.take(kept.size)):
            kept.close()
            return
        kept.ends = lambda: self._budget.give_back(kept.size)
        with self._lock:
            self._kept[address] = kept

    def _leave_open(self, host: str) -> bool:
        """Whether one more response of a host may be left open."""
        with self._lock:
            if self._open[host] >= self._most_open or self._open.total() >= _MAX_FILES:
                return False
            self._open[host] += 1
            return True

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Return a kept response, once; else request the file."""
        with self._lock:
            kept = self._kept.pop(address, None)
        if kept is None:
            return self._access.open(address, start=start, end=end, validators=validators)
        if start or end is not None:
            kept.close()
            return self._access.open(address, start=start, end=end, validators=validators)
        if validators and kept.facts.validators == validators:
            kept.close()
            return Unchanged(kept.facts)
        return kept

    def files_ahead(self, address: str) -> int:
        """Return how many files should be requested ahead; see `Access.files_ahead`."""
        return self._access.files_ahead(address)

    def open_ahead(self, addresses: Sequence[str]) -> None:
        """Request files whose answers are not kept; see `Access.open_ahead`."""
        self._access.open_ahead([each for each in addresses if not self.sharing.holds(each)])

    def fetches_small(self, address: str) -> bool:
        """Whether small files can be fetched together; a kept answer is not requested again."""
        return not self.sharing.holds(address) and self._access.fetches_small(address)

    def fetch_small(
        self, asked: Sequence[SmallRequest], at_once: int, is_wanted: Callable[[], bool]
    ) -> Iterator[tuple[int, SmallAnswer]]:
        """Request small files of one host; see `Access.fetch_small`."""
        return self._access.fetch_small(asked, at_once, is_wanted)

    def ask(self, address: str) -> Metadata:
        """Request the metadata of a file; see `Access.ask`."""
        return self._access.ask(address)

    def lister(self, address: str, *, webdav: bool = False) -> Lister | None:
        """Return what lists folders or keys; see `Access.lister`."""
        return self._access.lister(address, webdav=webdav)

    def post(self, address: str, body: bytes) -> tuple[Metadata, bytes]:
        """Send a document; see `Access.post`."""
        return self._access.post(address, body)

    def contact(self, address: str) -> str:
        """Return the address that is really contacted; see `Access.contact`."""
        return self._access.contact(address)

    def trust(self, address: str) -> None:
        """Record who named an address; see `Access.trust`."""
        self._access.trust(address)

    def abort(self) -> None:
        """End every exchange; see `Access.abort`."""
        self._access.abort()

    def close(self) -> None:
        """Close the responses that were not used."""
        for kept in self._kept.values():
            kept.close()
        self._kept.clear()

    def _file(self) -> IO[bytes]:
        """Return a temporary file without a name."""
        made = tempfile.SpooledTemporaryFile(_MAX_MEMORY_BYTES, dir=self._folder)  # noqa: SIM115
        return cast(IO[bytes], made)


class _Budget:
    """Counts what the kept responses take of memory, files and disk; thread-safe."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._memory = self._files = self._bytes = 0

    @property
    def has_room(self) -> bool:
        """Whether one more may be kept, as long as it is small."""
        return self._memory < _MAX_ALL_MEMORY_BYTES and self._files < _MAX_FILES

    def take(self, size: int) -> bool:
        """Count one more response of some bytes, unless that is too much."""
        with self._lock:
            in_memory = size <= _MAX_MEMORY_BYTES
            if in_memory and self._memory + size <= _MAX_ALL_MEMORY_BYTES:
                self._memory += size
                return True
            fits = self._files < _MAX_FILES and self._bytes + size <= _MAX_ALL_FILE_BYTES
            if in_memory or not fits:
                return False
            self._files += 1
            self._bytes += size
            return True

    def give_back(self, size: int) -> None:
        """Count a response no more."""
        with self._lock:
            if size <= _MAX_MEMORY_BYTES:
                self._memory -= size
            else:
                self._files -= 1
                self._bytes -= size


class _KeptDelivery(Download):
    """A response whose beginning was read already.

    Attributes:
        size: how many of its bytes are kept.
        ends: called when it is closed.
    """

    def __init__(self, delivery: Download, file: IO[bytes]) -> None:
        self._delivery = delivery
        self._file = file
        self._is_all = False
        self.size = 0
        self.ends: Callable[[], None] = lambda: None
        self.facts = delivery.facts
        self.start = delivery.start
        self.joining = delivery.joining
        self.in_parts = delivery.in_parts
        self.notes = delivery.notes

    def read_ahead(self, beginning: bytes, seconds: float) -> bool:
        """Read a short response to its end; return whether it was short, and close it then.

        Args:
            beginning: what was read of it already.
            seconds: after which the rest is left.

        Raises:
            TransferFailed: the answer breaks off.
            OSError: the bytes cannot be kept.
        """
        self._file.write(beginning)
        began = time.monotonic()
        until = began + seconds
        if (self.facts.length or 0) > _MAX_READ_BYTES:
            return False
        while self._file.tell() <= _MAX_READ_BYTES and time.monotonic() < until:
            data = self._delivery.read()
            if not data:
                self._is_all = True
                self._delivery.close()
                break
            self._file.write(data)
        self.spent += time.monotonic() - began
        return self._is_all

    def rewind(self) -> None:
        """Start again at the first kept byte."""
        self.size = self._file.tell()
        self._file.seek(0)

    def read(self) -> bytes:
        """Return the kept bytes, then those received."""
        if data := self._file.read(CHUNK):
            return data
        return b"" if self._is_all else self._delivery.read()

    def close(self) -> None:
        """Close the response and discard the kept bytes."""
        ends, self.ends = self.ends, lambda: None
        ends()
        with suppress(OSError):  # on a full disk; the bytes are not needed any more
            self._file.close()
        self._delivery.close()


# A busy host gets a second chance, and no more.
_ONCE_MORE = RetryPolicy(attempts=2, longest_wait=10.0)


class ManyQuestions:
    """Asks hosts until one wants to be left alone for longer than is waited; thread-safe."""

    def __init__(self, access: Access) -> None:
        self._access = access
        self._refusals: dict[str, TransientError] = {}

    def ask(self, address: str) -> Metadata:
        """Request the size, the date and the version of a file.

        Raises:
            ServerBusy: its host wants to be left alone, and was not asked.
            TransferFailed: as for `Access.ask`.
        """
        host = host_of(address)
        if (refusal := self._refusals.get(host)) is not None:
            shown, reason = without_secrets(address), f"not requested: {refusal.reason} before"
            raise ServerBusy(shown, reason, refusal.advice, wait=refusal.wait, status=0)
        try:
            return self._access.retrier.run(lambda: self._access.ask(address), _ONCE_MORE)
        except TransientError as error:
            if error.wait is not None and error.wait > _ONCE_MORE.longest_wait:
                self._refusals[host] = error
            raise
