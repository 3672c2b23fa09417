"""A place made of values: the seam's fake, for tests and for trying things without a network."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from willow_cart.access.seam import CHUNK, Access, Delivery, Joining, Unchanged
from willow_cart.errors import ConnectionLost, NotServed, TransferFailed
from willow_cart.model import Facts, Validators


@dataclass(slots=True)
class FakeFile:
    """A file of a fake place.

    Attributes:
        content: its bytes.
        entity_tag: marks its version; change it with the content. None for a place without marks.
        breaks: after how many bytes the connection breaks, one number for each delivery to come.
        troubles: errors to raise instead of answering, one for each request to come.
    """

    content: bytes
    entity_tag: str | None = '"1"'
    breaks: list[int] = field(default_factory=list)
    troubles: list[TransferFailed] = field(default_factory=list)


class FakeAccess(Access):
    """Serve files from memory, with the faults that they are given.

    Attributes:
        files: what is there, by address.
        asked: every request in order, as (address, start).
    """

    def __init__(self, files: Mapping[str, FakeFile], *, piece: int = CHUNK) -> None:
        self.files = dict(files)
        self.asked: list[tuple[str, int]] = []
        self._piece = piece

    def open(
        self, address: str, *, start: int = 0, validators: Validators | None = None
    ) -> Delivery | Unchanged:
        """Serve a file by the seam's rules."""
        self.asked.append((address, start))
        file = self._find(address)
        facts = _facts_of(address, file)
        same = validators is not None and facts.validators == validators
        if same and validators and not start:
            return Unchanged(facts)
        if start and not (same or validators is None):
            start = 0
        return _FakeDelivery(file, facts, start, self._piece)

    def ask(self, address: str) -> Facts:
        """Say what is known of a file."""
        return _facts_of(address, self._find(address))

    def close(self) -> None:
        """There is nothing to let go of."""

    def _find(self, address: str) -> FakeFile:
        file = self.files.get(address)
        if file is None:
            raise NotServed(address, "is not there", "look elsewhere", status=404)
        if file.troubles:
            raise file.troubles.pop(0)
        return file


class _FakeDelivery(Delivery):
    def __init__(self, file: FakeFile, facts: Facts, start: int, piece: int) -> None:
        self.facts = facts
        self.start = start
        self.joining = Joining.SAFE if facts.validators else Joining.BLIND
        self._rest = memoryview(file.content)[start:]
        self._left = file.breaks.pop(0) if file.breaks else None
        self._piece = piece

    def read(self) -> bytes:
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


def _facts_of(address: str, file: FakeFile) -> Facts:
    return Facts(address, len(file.content), Validators(file.entity_tag))
