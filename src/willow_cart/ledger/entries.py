"""The entries of the ledger as values."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime

from willow_cart.destination import FileTree, Stamp
from willow_cart.identity import AddressId, LedgerKey, hash_of
from willow_cart.model import State, Validators
from willow_cart.redaction import INSIDE
from willow_cart.structs import Value

NO_ID, NO_KEY = AddressId(""), LedgerKey("")

TWIN = "twin "
"""Before the path of the file that stands for another one."""


class StepRecord(Value):
    """A step of an errand, after its haul.

    Attributes:
        number: its position in the errand, from 1.
        command: as it would be typed, without secrets.
        started, ended: in UTC, ISO 8601.
        exit_code: its exit code.
        counts: what it did, by names: archives, files, tables, rows.
    """

    number: int
    command: str
    started: str
    ended: str
    exit_code: int
    counts: Mapping[str, int]


class Arrival(Value):
    """A file that arrived, as it was then.

    Attributes:
        address, final_address: where it came from, before and after redirects, without secrets.
        path: its path below the destination, with `/` between the parts.
        time: when, in UTC, ISO 8601.
        size: bytes.
        sha256: hexadecimal.
        entity_tag, last_modified: the validators it came with.
        expected: the promised checksums as `algorithm:hex`, with a space between them.
        verdict: how it was verified; see `Checksum`.
        mtime_ns: the file's own time stamp when it was filed, in nanoseconds.
        decoded: the content coding that was undone; empty for none.
        instead: what replaces it where no file is at its path: `twin PATH`, another file that
            has its bytes; `members`, what was unpacked from it; `nothing`, for one that was put
            aside. Empty where one does.
        archive: the SHA-256 of the archive that it was unpacked from; empty if it was not.
        modified: its modification time at the server, in UTC, ISO 8601; empty if unknown.
        media_type: from the server, perhaps with a character set (RFC 9110, 8.3).
        licence: the licence in the catalogue; empty if missing.
        citation: how its catalogue wants it to be cited; as above.
        key: of its address in the ledger; empty until it is entered, and for an entry of an early
            version, in which addresses with hidden values cannot be distinguished.
    """

    address: str
    final_address: str
    path: str
    time: str
    size: int
    sha256: str
    entity_tag: str | None
    last_modified: str | None
    expected: str
    verdict: str
    mtime_ns: int
    decoded: str = ""
    instead: str = ""
    archive: str = ""
    media_type: str = ""
    modified: str = ""
    licence: str = ""
    citation: str = ""
    key: LedgerKey = NO_KEY

    @property
    def twin(self) -> str:
        """The path of the file with the same content that replaces this one; may be empty."""
        return self.instead.removeprefix(TWIN) if self.instead.startswith(TWIN) else ""

    @property
    def archive_key(self) -> LedgerKey:
        """The key of the archive it came from; its own if it came from none."""
        return LedgerKey(self.key.partition(INSIDE)[0])

    @property
    def digest(self) -> str:
        """A digest for an offer of this file, which no other entry's has; see `Offer.digest`."""
        return self.archive_key.partition("?")[2] if self.key else hash_of(self.path)

    @property
    def lies_at(self) -> str:
        """The path of its content."""
        return self.twin or self.path

    @property
    def stamp(self) -> Stamp:
        """The stamp of its file or of the twin's."""
        return Stamp(self.size, self.mtime_ns)

    @property
    def own_stamp(self) -> Stamp | None:
        """The stamp of the file at its own path; None if another file replaces it."""
        return None if self.instead else self.stamp

    def delete_from(self, tree: FileTree) -> None:
        """Delete the file at its path if it is the one that arrived.

        Raises:
            OSError: it cannot be deleted.
        """
        if tree.stamp(self.path) == self.own_stamp is not None:
            tree.delete(self.path)

    @property
    def validators(self) -> Validators:
        """The validators of the version that arrived."""
        return Validators(self.entity_tag, self.last_modified)


class PartRecord(Value):
    """What a later run needs to resume a partial file.

    Attributes:
        address, final_address: as for an arrival.
        file: its name in the folder of partial files.
        length: of the whole representation in bytes; None if the server does not state it.
        validators: of the version that its bytes are from.
        joining: whether the rest can be joined to it; see `Resumability`.
        sealed: what it becomes: set once it is whole, checked and safe on the disk.
        synced: which bytes are safe on the disk, as byte ranges: `0-99,500-509`.
        boot: tells the start of the machine in which it was written from every other.
        promised: the checksums that its server has promised as `algorithm:hex`, with spaces
            between.
        digests: of what was there when it was synced last; see `transfer.partials.Piece`.
    """

    address: str
    final_address: str
    file: str
    length: int | None
    validators: Validators
    joining: str
    sealed: Arrival | None = None
    synced: str = ""
    boot: str = ""
    promised: str = ""
    digests: str = ""


class Made(Value):
    """A file that was made from files that arrived.

    Attributes:
        path: below the destination, with `/` between the parts.
        sha256: hexadecimal.
        size: bytes.
        source: the addresses, without secrets, of what it was made of, with a space between them.
    """

    path: str
    sha256: str
    size: int
    source: str


class Move(Value):
    """A file that is moved to another path.

    Attributes:
        address: that fetched it, without secrets.
        old, new: its paths below the destination, with `/` between the parts.
        file: its temporary name.
    """

    address: str
    old: str
    new: str
    file: str


class Result(Value):
    """The result of one file in one run.

    Attributes:
        number: its position in the haul, from 1.
        address: without secrets.
        path: its path, or the path that it would have had.
        state: what became of it.
        reason: why it failed or was refused, or what is broken in it; empty otherwise.
        received: bytes that came in this run.
        resumed: bytes of it that were there from an earlier run or attempt.
        attempts: how often it was requested.
        seconds: how long that took.
        arrival: the new arrival, if there was one.
        twin: the path of another file here that has the same bytes; empty for none.
        note: what the user should know of it, although nothing is wrong; empty for nothing.
        worker: of a cluster, that made the last attempt; empty for this machine.
        id: the identifier of the address.
    """

    number: int
    address: str
    path: str
    state: State
    reason: str = ""
    received: int = 0
    resumed: int = 0
    attempts: int = 0
    seconds: float = 0.0
    arrival: Arrival | None = None
    twin: str = ""
    note: str = ""
    worker: str = ""
    id: AddressId = NO_ID

    @property
    def is_unsound(self) -> bool:
        """Whether it arrived but is damaged inside."""
        return self.state is State.ARRIVED and bool(self.reason)


def timestamp() -> str:
    """Format a time for the ledger: UTC, ISO 8601, to the second."""
    return datetime.now(UTC).isoformat(timespec="seconds")
