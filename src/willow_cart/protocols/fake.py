"""An in-memory server: the fake protocol, for tests and for use without a network."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial

from willow_cart.errors import ConnectionLost, NotServed, ServerBusy, TransferFailed
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import (
    CHUNK,
    MAX_SMALL_BYTES,
    Access,
    Download,
    Resumability,
    Sharing,
    SmallAnswer,
    SmallRequest,
    Unchanged,
    WholeDownload,
    fetch_whole,
)
from willow_cart.structs import Record, field


class FakeFile(Record):
    """A file of a fake server.

    Attributes:
        content: its bytes.
        entity_tag: marks its version; change it with the content. None for a server without ETags.
        breaks: after how many bytes the connection breaks, one number for each delivery to come.
        troubles: errors to raise instead of answering, one for each request to come.
    """

    content: bytes
    entity_tag: str | None = '"1"'
    breaks: list[int] = field(default_factory=list)
    troubles: list[TransferFailed] = field(default_factory=list)


class _FakeSharing(Sharing):
    def __init__(self, make: Callable[[], Access]) -> None:
        self._make = make

    def maker(self) -> Callable[[], Access]:
        """Return a factory for an access to the same files."""
        return self._make


class FakeAccess(Access):
    """Access to files in memory, with configurable faults.

    Args:
        files: what is there, by address.
        piece: how many bytes come at a time.
        pause: seconds before each piece.
        ahead: how many files should be requested ahead of their opening.

    Attributes:
        files: what is there, by address.
        asked: every request in order, as (address, start).
        opened_ahead: the addresses of each group that was requested ahead.
        most_open: how many deliveries were open at a time, at most.
        most_at_once: how many requests for small files were in flight at a time, at most.
    """

    def __init__(
        self,
        files: Mapping[str, FakeFile],
        *,
        piece: int = CHUNK,
        pause: float = 0.0,
        ahead: int = 0,
    ) -> None:
        self.files = dict(files)
        self.opened_ahead: list[list[str]] = []
        self._ahead = ahead
        self.asked: list[tuple[str, int]] = []
        self.most_open = self.most_at_once = 0
        self._open: set[Download] = set()
        self._piece = piece
        self._pause = pause
        self.sharing = _FakeSharing(partial(FakeAccess, files, piece=piece, pause=pause))

    def files_ahead(self, address: str) -> int:  # noqa: ARG002  # the same for all
        """Return how many files should be requested ahead; see `Access.files_ahead`."""
        return self._ahead

    def open_ahead(self, addresses: Sequence[str]) -> None:
        """Record what is requested ahead; see `Access.open_ahead`."""
        self.opened_ahead.append([*addresses])

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Serve a file; see `Access.open`."""
        self.asked.append((address, start))
        file = self._find(address)
        facts = _facts_of(address, file)
        same = validators is not None and facts.validators == validators
        if same and validators and not start and end is None:
            return Unchanged(facts)
        if (start or end) and not (same or validators is None):
            start, end = 0, None
        delivery = _FakeDelivery(file, facts, (start, end), self._piece, self._pause)
        delivery.closed = partial(self._open.discard, delivery)
        self._open.add(delivery)
        self.most_open = max(self.most_open, len(self._open))
        return delivery

    def fetches_small(self, address: str) -> bool:  # noqa: ARG002  # the same for all
        """Return True; see `Access.fetches_small`."""
        return True

    def fetch_small(
        self, asked: Sequence[SmallRequest], at_once: int, is_wanted: Callable[[], bool]
    ) -> Iterator[tuple[int, SmallAnswer]]:
        """Serve files one after the other; see `Access.fetch_small`."""
        self.most_at_once = max(self.most_at_once, at_once)
        for place, (address, held) in enumerate(asked):
            if not is_wanted():
                return
            if address in self.files and len(self.files[address].content) > MAX_SMALL_BYTES:
                yield place, None
                continue
            try:
                if held and isinstance(same := self.open(address, validators=held), Unchanged):
                    yield place, same
                    continue
                facts, content = fetch_whole(address, self)
            except TypeError:  # its content is not bytes
                yield place, None
            except TransferFailed as error:
                yield place, error
                if isinstance(error, ServerBusy | ConnectionLost):
                    return
            else:
                yield place, WholeDownload(facts, content)

    def ask(self, address: str) -> Metadata:
        """Return the metadata of a file."""
        return _facts_of(address, self._find(address))

    def close(self) -> None:
        """Do nothing."""

    def _find(self, address: str) -> FakeFile:
        file = self.files.get(address)
        if file is None:
            raise NotServed(address, "no such file", "check the address", status=404)
        if file.troubles:
            raise file.troubles.pop(0)
        return file


class _FakeDelivery(Download):
    closed: Callable[[], None]

    def __init__(
        self,
        file: FakeFile,
        facts: Metadata,
        part: tuple[int, int | None],
        piece: int,
        pause: float,
    ) -> None:
        self.facts = facts
        self.start, end = part
        self.joining = Resumability.SAFE if facts.validators else Resumability.BLIND
        self._rest = memoryview(file.content)[self.start : end]
        self._left = file.breaks.pop(0) if file.breaks else None
        self._piece = piece
        self._pause = pause

    def read(self) -> bytes:
        time.sleep(self._pause)
        if self._left == 0:
            raise ConnectionLost(self.facts.address, "the connection broke")
        count = self._piece if self._left is None else min(self._left, self._piece)
        data = bytes(self._rest[:count])
        self._rest = self._rest[count:]
        if self._left is not None:
            self._left -= len(data)
        return data

    def close(self) -> None:
        self._rest = memoryview(b"")
        self.closed()


def _facts_of(address: str, file: FakeFile) -> Metadata:
    return Metadata(address, len(file.content), Validators(file.entity_tag))
