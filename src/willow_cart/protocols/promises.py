"""Expected checksums in the header fields of responses."""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator, Mapping

from willow_cart.model import Checksum, Origin

PROOFS = (
    "Repr-Digest", "Content-Digest", "Digest", "Content-MD5", "x-amz-checksum-sha256",
    "x-amz-checksum-sha1", "x-amz-checksum-crc32", "x-amz-checksum-crc32c",
    "x-amz-checksum-crc64nvme", "x-goog-hash",
)  # fmt: skip
"""Fields with checksums: RFC 9530, RFC 3230, RFC 1864, and those of object stores."""

# RFC 9530, 7.2, and RFC 3230, 4.1.1 with the values that were added to its registry. Others are
# deprecated for being too weak, or sums that are not sent for files.
_NAMES = {"sha-512": "sha512", "sha-256": "sha256", "sha": "sha1", "md5": "md5", "crc32c": "crc32c"}

# RFC 8941, 3.2 and 3.3.5: a member of a dictionary whose value is a byte sequence.
_MEMBER = re.compile(r"(?<![a-z0-9_.*-])([a-z*][a-z0-9_.*-]*+)=:([A-Za-z0-9+/=]*+):")

# RFC 3230, 4.2: an algorithm, an equals sign, and its output as the algorithm has it.
_INSTANCE = re.compile(r"(?<![A-Za-z0-9-])([A-Za-z0-9-]++)=([A-Za-z0-9+/=]++)\s*+(?:,|$)")

_LENGTHS = {"sha512": 64, "sha256": 32, "sha1": 20, "md5": 16, "crc32": 4, "crc32c": 4}

_MD5_MARK = re.compile(r'"([0-9a-f]{32})(?:-(\d{1,5}))?"')


def promised_by_server(fields: Mapping[str, str], *, whole: bool) -> tuple[Checksum, ...]:
    """Return the checksums that a server states for a representation without coding.

    Args:
        fields: of the answer.
        whole: whether it has the whole representation; what is said of the content of
            another one is said of a part (RFC 9530, 2).
    """
    return tuple(dict.fromkeys(_by_server(fields, whole=whole)))


def promised_by_store(fields: Mapping[str, str]) -> tuple[Checksum, ...]:
    """Return the checksums that an object store states for an object.

    An entity tag of 32 digits may be the MD5 of an object that was put up in one piece, which not
    all stores promise. Nothing is promised for an object that the store has decompressed on the
    way: what it says is true of the stored bytes.
    """
    if stored_coding(fields):
        return ()
    return tuple(dict.fromkeys(_by_store(fields)))


def composite_of(fields: Mapping[str, str]) -> tuple[str, int] | None:
    """Return the MD5 of the MD5s of an object's parts.

    The second value is the number of parts; None if the tag is something else.
    """
    mark = _MD5_MARK.fullmatch(fields.get("ETag", ""))
    if mark is None or mark[2] is None or _is_encrypted(fields) or stored_coding(fields):
        return None
    return mark[1], int(mark[2])


def md5_mark_in(entity_tag: str) -> str:
    """Return an entity tag without quotes if it looks like an MD5, also of parts; else nothing."""
    bare = entity_tag.strip('"')
    return bare if _MD5_MARK.fullmatch(f'"{bare}"') else ""


def stored_coding(fields: Mapping[str, str]) -> str:
    """Return the content coding that a store keeps an object in, and may remove; empty for none."""
    coding = fields.get("x-goog-stored-content-encoding", "").strip().lower()
    return "" if coding == "identity" else coding


def _by_server(fields: Mapping[str, str], *, whole: bool) -> Iterator[Checksum]:
    written = fields.get("Repr-Digest", "")  # RFC 9530, 3
    if whole:
        written += "," + fields.get("Content-Digest", "")  # RFC 9530, 2
    found = [*_MEMBER.findall(written), *_INSTANCE.findall(fields.get("Digest", ""))]
    for name, value in found:
        yield from read_base64(_NAMES.get(name.lower()), value, Origin.SERVER)
    if whole:
        yield from read_base64("md5", fields.get("Content-MD5", ""), Origin.SERVER)  # RFC 1864, 2


def _by_store(fields: Mapping[str, str]) -> Iterator[Checksum]:
    for algorithm in ("sha256", "sha1", "crc32c", "crc32"):
        # That of an object in parts is one of its parts' sums, and says so by a number behind it.
        text = fields.get(f"x-amz-checksum-{algorithm}", "")
        yield from read_base64(algorithm, text, Origin.STORE)
    for each in fields.get("x-goog-hash", "").split(","):
        name, _, value = each.strip().partition("=")
        known = name if name in ("md5", "crc32c") else None
        yield from read_base64(known, value, Origin.STORE)
    mark = _MD5_MARK.fullmatch(fields.get("ETag", ""))
    if mark is not None and mark[2] is None and not _is_encrypted(fields):
        yield Checksum("md5", mark[1], Origin.STORE, is_hint=True)


def _is_encrypted(fields: Mapping[str, str]) -> bool:
    keyed = fields.get("x-amz-server-side-encryption", "").startswith("aws:kms")
    return keyed or "x-amz-server-side-encryption-customer-algorithm" in fields


def read_base64(algorithm: str | None, value: str, origin: Origin) -> tuple[Checksum, ...]:
    """Convert a base64 digest to a checksum.

    None if it is not a digest of a known algorithm.
    """
    try:
        digest = base64.b64decode(value, validate=True)
    except ValueError:
        return ()
    if algorithm is None or len(digest) != _LENGTHS[algorithm]:
        return ()
    return (Checksum(algorithm, digest.hex(), origin),)
