"""Digests that are computed while bytes arrive."""

from __future__ import annotations

import hashlib
import os
import re
import threading
import zlib
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, BinaryIO, Protocol

from willow_cart.errors import BadOption
from willow_cart.model import Checksum, Origin
from willow_cart.platform import files

if TYPE_CHECKING:
    from _typeshed import ReadableBuffer as Buffer


# Digest lengths in hexadecimal digits. BLAKE2b in full length shares 128 with SHA-512; a list
# says by its name or style which it means.
_BY_LENGTH = {32: "md5", 40: "sha1", 56: "sha224", 64: "sha256", 96: "sha384", 128: "sha512"}
_BY_NAME = {
    "md5": "md5",
    "sha1": "sha1",
    "sha224": "sha224",
    "sha256": "sha256",
    "sha384": "sha384",
    "sha512": "sha512",
    "blake2b": "blake2b",
    "blake2b512": "blake2b",
    "sha3224": "sha3_224",
    "sha3256": "sha3_256",
    "sha3384": "sha3_384",
    "sha3512": "sha3_512",
    "crc32": "crc32",
    "crc32c": "crc32c",
}

# One read of the follower. Larger ones gain nothing: the hash is what takes the time.
_CHUNK_BYTES = 1 << 20

# What the follower may be handed ahead of what it has hashed.
_MAX_QUEUED_BYTES = 4 << 20

# For so long one is waited for that lags behind, such as one that reads what was there before.
_MAX_LAG_SECONDS = 0.2

# Up to here the bytes are hashed as they are received; starting a thread costs more than it saves.
_INLINE_BYTES = 1 << 20


def read_checksum(text: str, *, algorithm: str | None = None) -> Checksum:
    """Parse a checksum: `sha256:HEX`, or hexadecimal digits whose length tells the algorithm.

    Args:
        text: the text.
        algorithm: the algorithm's name where it is elsewhere, in any spelling.

    Raises:
        BadOption: it is invalid, or of an algorithm that is not known here.
    """
    named, colon, digest = text.strip().rpartition(":")
    name = algorithm or (named if colon else None)
    digest = digest.strip().lower()
    if not re.fullmatch(r"[0-9a-f]+", digest):
        raise BadOption(text.strip(), "not a checksum", "write sha256: and hexadecimal digits")
    if name is None:
        known = _BY_LENGTH.get(len(digest))
        if known is None:
            raise BadOption(
                digest,
                f"no known checksum has {len(digest)} digits",
                "write it as ALGORITHM:DIGITS",
            )
        return Checksum(known, digest)
    known = _BY_NAME.get(re.sub(r"[-_/ ]", "", name.strip().lower()))
    if known is None:
        raise BadOption(
            name, "not a known algorithm", f"known algorithms are {', '.join(_BY_NAME)}"
        )
    if len(digest) != len(new_hash(known).hexdigest()):
        raise BadOption(digest, f"wrong length for a {known} checksum", "copy all of it")
    return Checksum(known, digest)


def written(checksums: Iterable[Checksum]) -> str:
    """Format checksums for the ledger: `algorithm:hex`, separated by spaces."""
    return " ".join(dict.fromkeys(map(str, checksums)))


class _Crc32:
    """CRC-32 (ITU-T V.42) with the interface of `hashlib`."""

    def __init__(self) -> None:
        self._value = 0

    def update(self, data: Buffer) -> None:
        """Add bytes."""
        self._value = zlib.crc32(data, self._value)

    def hexdigest(self) -> str:
        """Return the checksum in eight hexadecimal digits."""
        return f"{self._value:08x}"


class _Crc32c:
    """CRC-32C (RFC 3720) with the interface of `hashlib`."""

    def __init__(self) -> None:
        import google_crc32c  # only stores use it

        self._extend = google_crc32c.extend
        self._value = 0

    def update(self, data: Buffer) -> None:
        """Add bytes."""
        self._value = self._extend(self._value, bytes(data))

    def hexdigest(self) -> str:
        """Return the checksum in eight hexadecimal digits."""
        return f"{self._value:08x}"


class Hash(Protocol):
    """A hash object, as in `hashlib`."""

    def update(self, data: Buffer, /) -> None:
        """Add bytes."""

    def hexdigest(self) -> str:
        """Return the digest in hexadecimal."""


def new_hash(algorithm: str) -> Hash:
    """Return a new hash object by its name in checksums.

    Raises:
        ValueError: it is not known.
    """
    match algorithm:
        case "crc32":
            return _Crc32()
        case "crc32c":
            return _Crc32c()
        case _:
            return hashlib.new(algorithm, usedforsecurity=False)


class RunningDigest:
    """Digests of a file that is being written.

    The first megabyte is hashed as it is handed over. From there on a helper thread follows. It is
    handed a few megabytes at most; when it lags behind further than that it is waited for a moment,
    and then reads the file itself, so that memory stays bounded. The same serves a file of which a
    part was there already.

    Not for use by several threads at once.

    Args:
        algorithms: by their names here; SHA-256 is always among them.
    """

    def __init__(self, algorithms: Iterable[str] = ()) -> None:
        self._hashes = {name: new_hash(name) for name in ("sha256", *algorithms)}
        self._hashed = 0
        self._written = 0
        # Where each piece belongs in the file, and its bytes.
        self._in_hand: deque[tuple[int, bytes | memoryview]] = deque()
        self._more = threading.Condition()
        self._so_far = (0, "")
        self._ending = False
        self._is_awaited = False
        self._follower: threading.Thread | None = None
        self._failure: Exception | None = None

    def add(self, data: bytes | memoryview, file: int) -> None:
        """Add bytes that were just written to the file.

        Args:
            data: the bytes.
            file: the descriptor of the file that they now end, open for reading too.
        """
        written = self._written + len(data)
        if self._hashed == self._written and written <= _INLINE_BYTES:
            self._hash(data)
            self._written = written
            return
        self._wait_for_follower(written)
        if written - self._hashed <= _MAX_QUEUED_BYTES:
            self._in_hand.append((self._written, data))
        self.reach(written, file)

    def _wait_for_follower(self, written: int) -> None:
        """Wait until the follower is near.

        Reading the file back would take the time that it lacks, and several files that are received
        faster than they are hashed would have more threads at work than there are processors.
        """
        if self._follower is None or written - self._hashed <= _MAX_QUEUED_BYTES:
            return
        with self._more:
            self._is_awaited = True
            self._more.wait_for(
                lambda: written - self._hashed <= _MAX_QUEUED_BYTES, _MAX_LAG_SECONDS
            )
            self._is_awaited = False

    def reach(self, written: int, file: int) -> None:
        """Set how many bytes the file holds now; the digest reads them from the file."""
        with self._more:
            self._written = written
            self._more.notify()
        if self._follower is None and self._hashed < written:
            self._ending = False
            self._follower = threading.Thread(target=self._follow, args=(file,), daemon=True)
            self._follower.start()

    def settle(self) -> None:
        """Wait until everything written is hashed; the file may be closed afterwards.

        Raises:
            OSError: the file could not be read back.
        """
        if self._follower is not None:
            with self._more:
                self._ending = True
                self._more.notify()
            self._follower.join()
            self._follower = None
        if self._failure is not None:
            raise self._failure

    def checksums(self) -> dict[str, Checksum]:
        """Return the checksums of everything hashed, by algorithm."""
        return {name: Checksum(name, each.hexdigest()) for name, each in self._hashes.items()}

    def so_far(self) -> tuple[int, str]:
        """Return how many bytes are hashed, and their SHA-256 in hexadecimal.

        Any thread may ask; it does not wait for what is being hashed.
        """
        return self._so_far

    def _hash(self, data: bytes | memoryview) -> None:
        for each in self._hashes.values():
            each.update(data)
        self._hashed += len(data)
        self._so_far = self._hashed, self._hashes["sha256"].hexdigest()

    def _next_in_hand(self) -> bytes | memoryview | None:
        """Return the next bytes if they were passed in memory.

        None if they must be read from the file.
        """
        if self._in_hand and self._in_hand[0][0] == self._hashed:
            return self._in_hand.popleft()[1]
        return None

    def _follow(self, file: int) -> None:
        piece = memoryview(bytearray(_CHUNK_BYTES))
        try:
            while True:
                with self._more:
                    while self._hashed >= self._written and not self._ending:
                        self._more.wait()
                    due = self._written - self._hashed
                if due <= 0:
                    return
                data = self._next_in_hand()
                if data is None:
                    if self._in_hand:
                        due = self._in_hand[0][0] - self._hashed
                    data = piece[: files.read_into(file, piece[:due], self._hashed)]
                    if not data:
                        raise OSError("the file is shorter than what was written to it")
                self._hash(data)
                if self._is_awaited:
                    with self._more:
                        self._more.notify_all()
        except Exception as error:  # whatever it is, the digest is not that of the file
            self._failure = error


def digest_in_memory(content: bytes, algorithms: Iterable[str] = ()) -> dict[str, Checksum]:
    """Compute the SHA-256 of bytes, and further digests by their names here."""
    hashes = {name: new_hash(name) for name in ("sha256", *algorithms)}
    for each in hashes.values():
        each.update(content)
    return {name: Checksum(name, each.hexdigest()) for name, each in hashes.items()}


def digest_of(
    file: BinaryIO, algorithms: Iterable[str], read: Callable[[int], None] = lambda _: None
) -> dict[str, Checksum]:
    """Compute the digest of a complete file.

    Args:
        file: open at its beginning.
        algorithms: by their names here.
        read: called with the number of bytes read.

    Raises:
        OSError: it cannot be read.
    """
    hashes = {name: new_hash(name) for name in algorithms}
    # A megabyte for each of many small files would cost more than hashing them.
    piece = memoryview(bytearray(max(1, min(_CHUNK_BYTES, os.fstat(file.fileno()).st_size))))
    while count := file.readinto(piece):  # type: ignore[attr-defined]
        for each in hashes.values():
            each.update(piece[:count])
        read(count)
    return {name: Checksum(name, each.hexdigest()) for name, each in hashes.items()}


LENGTH_ONLY = "length only"
"""As many bytes came as were announced."""

NOTHING = "nothing"
"""It ended, and its length was not announced."""

# The strongest first. Those from MD5 on are no proof against an attacker: SHA-1 and MD5
# have known collisions (RFC 6151, RFC 6194), and a CRC is a sum for slips of the line.
_BY_STRENGTH = (
    "sha512", "sha3_512", "blake2b", "sha384", "sha3_384", "sha256", "sha3_256", "sha224",
    "sha3_224", "sha1", "md5", "crc32c", "crc32",
)  # fmt: skip
_WEAK = frozenset({"sha1", "md5", "crc32c", "crc32"})

_BYTES_PER_MIB = 1 << 20

# The sizes of parts in which programs put objects up: powers of two, and round numbers.
_PART_SIZES = [
    n * _BYTES_PER_MIB
    for n in (1, 2, 4, 5, 8, 10, 15, 16, 25, 32, 50, 64, 100, 128, 256, 512, 1024)
]


def verdict_of(promised: Sequence[Checksum], length: int | None) -> str:
    """Return how a file was checked, given that all its expected checksums match.

    Args:
        promised: the checksums.
        length: that was announced; None for none.
    """
    if not promised:
        return NOTHING if length is None else LENGTH_ONLY
    best = min(promised, key=lambda each: _BY_STRENGTH.index(each.algorithm))
    return f"{best.algorithm} from {best.origin}{weakness_of(best.algorithm)}"


def weakness_of(algorithm: str) -> str:
    """Return the note on an algorithm that is not collision-resistant; empty for others."""
    return ", weak" if algorithm in _WEAK else ""


def proves_composite(file: BinaryIO, digest: str, parts: int) -> bool:
    """Whether a file matches an MD5 of the MD5s of its parts, for a usual part size.

    If not, nothing is proved: the parts may have had another size.

    Raises:
        OSError: the file cannot be read.
    """
    length = os.fstat(file.fileno()).st_size
    return any(
        _composite(file, size) == digest for size in _PART_SIZES if -(-length // size) == parts
    )


def _composite(file: BinaryIO, size: int) -> str:
    sums = hashlib.md5(usedforsecurity=False)
    file.seek(0)
    while True:
        part = hashlib.md5(usedforsecurity=False)
        left = size
        while left and (piece := file.read(min(left, _BYTES_PER_MIB))):
            part.update(piece)
            left -= len(piece)
        if left == size:
            return sums.hexdigest()
        sums.update(part.digest())


def checksums_of(value: object, usual: str) -> tuple[Checksum, ...]:
    """Return the checksum in `ALGORITHM:DIGITS`, or of the usual algorithm; none if it is odd."""
    if not isinstance(value, str) or not value:
        return ()
    try:
        found = read_checksum(value, algorithm=None if ":" in value else usual)
    except BadOption:
        return ()
    return (Checksum(found.algorithm, found.digest, Origin.CATALOGUE),)
