"""Answers that were asked for to find out what an address is, kept to become the download.

There are links that can be asked once, and every request costs its server something. An answer that
turns out to be a file is therefore not thrown away: a small one is read to its end, a large one is
left open, and the haul goes on from there.
"""

from __future__ import annotations

import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import IO, cast

from willow_cart.addresses import host_of
from willow_cart.errors import TransferFailed
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import (
    CHUNK,
    Access,
    DirectoryLister,
    Download,
    ObjectStore,
    Resumability,
    Unchanged,
)

# Up to so many bytes are read at once, so that the connection is free again; larger answers wait.
_MAX_READ_BYTES = 16 << 20

# What takes longer is better received by the haul, which shows it and goes on from its byte.
_MAX_READ_SECONDS = 1.0

# Kept in memory below this, beyond it in a file without a name.
_MAX_MEMORY_BYTES = 256 << 10

Keep = Callable[[str, Download, bytes], None]
"""Takes an answer that is a file: its address, and the beginning that was read of it already."""


class KeptAnswers(Access):
    """Hands answers that were kept to the first caller that asks for them, and asks for all others.

    Args:
        access: asks.
        folder: on the disk where bytes are kept.
        most_open: how many large answers of one host are left open; further ones are asked for
            again when their turn comes.
    """

    def __init__(self, access: Access, folder: Path, most_open: int) -> None:
        self._access = access
        self._folder = str(folder)
        self._most_open = most_open
        self._kept: dict[str, _KeptDelivery] = {}
        self._open: Counter[str] = Counter()
        self._lock = threading.Lock()
        self.retrier = access.retrier
        self.document_seconds = access.document_seconds

    def keep(self, address: str, delivery: Download, beginning: bytes) -> None:
        """Keep an answer, or close it if too many of its host are open.

        Raises:
            TransferFailed, OSError: never; an answer that breaks off is asked for again.
        """
        kept = _KeptDelivery(delivery, self._file())
        try:
            is_kept = (
                kept.read_ahead(beginning, _MAX_READ_SECONDS)
                or self._leave_open(host_of(address))
                or kept.read_ahead(b"", float("inf"))
            )
        except (TransferFailed, OSError):
            is_kept = False
        if not is_kept:
            kept.close()
            return
        kept.rewind()
        with self._lock:
            self._kept[address] = kept

    def _leave_open(self, host: str) -> bool:
        """Return whether one more answer of a host may be left open."""
        with self._lock:
            if self._open[host] >= self._most_open:
                return False
            self._open[host] += 1
            return True

    def holds(self, address: str) -> bool:
        """Return whether an answer is kept."""
        return address in self._kept

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Return the answer that was kept, once; else ask (see the seam)."""
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

    def ask(self, address: str) -> Metadata:
        """Ask what is known of a file (see the seam)."""
        return self._access.ask(address)

    def directory(self, address: str) -> DirectoryLister | None:
        """Return what lists the folders there (see the seam)."""
        return self._access.directory(address)

    def contact(self, address: str) -> str:
        """Return the address that is really asked (see the seam)."""
        return self._access.contact(address)

    def store(self, address: str) -> ObjectStore | None:
        """Return what lists the objects there (see the seam)."""
        return self._access.store(address)

    def abort(self) -> None:
        """End every exchange in progress (see the seam)."""
        self._access.abort()

    def maker(self) -> Callable[[], Access] | None:
        """Return what makes an access like the one that asks (see the seam)."""
        return self._access.maker()

    def close(self) -> None:
        """Close the answers that were not used."""
        for kept in self._kept.values():
            kept.close()
        self._kept.clear()

    def _file(self) -> IO[bytes]:
        """Return a file without a name, so that nothing is left of it whatever happens."""
        made = tempfile.SpooledTemporaryFile(_MAX_MEMORY_BYTES, dir=self._folder)  # noqa: SIM115
        return cast(IO[bytes], made)


class ReadDelivery(Download):
    """An answer that was read to its end; its bytes are the beginning that is kept of it.

    Args:
        facts: what the place said about it.
    """

    start = 0
    joining = Resumability.NEVER

    def __init__(self, facts: Metadata) -> None:
        self.facts = facts

    def read(self) -> bytes:
        """Return the end: all is kept already."""
        return b""

    def close(self) -> None:
        """There is nothing to let go of."""


class _KeptDelivery(Download):
    """An answer of which the beginning has been read already."""

    def __init__(self, delivery: Download, file: IO[bytes]) -> None:
        self._delivery = delivery
        self._file = file
        self._is_all = False
        self.facts = delivery.facts
        self.start = delivery.start
        self.joining = delivery.joining
        self.in_parts = delivery.in_parts
        self.notes = delivery.notes

    def read_ahead(self, beginning: bytes, seconds: float) -> bool:
        """Read what is not too long; return whether that was all, and be done with it then.

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
        """Begin to hand out what was read."""
        self._file.seek(0)

    def read(self) -> bytes:
        """Return what was kept, and then what comes."""
        if data := self._file.read(CHUNK):
            return data
        return b"" if self._is_all else self._delivery.read()

    def close(self) -> None:
        """Close the answer, and forget what was kept."""
        self._file.close()
        self._delivery.close()
