"""Describe how a file was checked, and how strong that check is."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from typing import BinaryIO

from willow_cart.model import Checksum

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
