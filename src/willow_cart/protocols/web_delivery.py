"""Read the body of a web response: framing, codings, and proof that it is complete."""

from __future__ import annotations

import base64
import http.client
import re
import time
from collections.abc import Iterator, Mapping
from urllib.parse import urlsplit

from willow_cart.addresses import host_of
from willow_cart.errors import ConnectionLost, ProtocolError, TransferFailed
from willow_cart.kinds import begins_as_named
from willow_cart.model import Checksum, Metadata, Origin, Validators
from willow_cart.protocols.base import CHUNK, Download, Resumability
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.http.http_connection import Answer
from willow_cart.protocols.http.http_response import (
    GZIP_MAGIC,
    NAMES,
    BrokenCoding,
    EndsEarly,
    decoded,
    is_gzip_within,
)
from willow_cart.protocols.web_sessions import translate
from willow_cart.redaction import without_secrets
from willow_cart.structs import replace

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
        # That of an object in parts is one of its parts' sums, and states it by a number after it.
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


# By how much more than sent what is coded may become: text shrinks to a fiftieth at best, and only
# what was made to swell beyond that. Little is let pass.
_MAX_EXPANSION = 200
_ALWAYS_ALLOWED_BYTES = 1 << 20

# A rest that is waited for, and for how long.
_MAX_DRAINED_BYTES = 64 * 1024
_DRAIN_SECONDS = 0.2

# More codings around one file are an attack.
_MAX_CODINGS = 3

# What servers write into Content-Encoding that is not a coding, or stands for no coding.
_NO_CODINGS = frozenset(
    "identity none binary 8bit 7bit utf-8 utf8 iso-8859-1 us-ascii ascii".split()
)


class WebDownload(Download):
    """The body of one response.

    Args:
        response: the answer.
        address: what was requested.
        facts: what the answer says.
        start: its first byte.
        seconds: within which some of it must come, each time.
        empty: whether nothing of it is wanted.
        notes: messages about it so far.

    Raises:
        ProtocolError: it is coded in a way that cannot be undone.
        TransferFailed: an encoded body was empty.
    """

    def __init__(
        self,
        response: Answer,
        address: str,
        facts: Metadata,
        start: int,
        seconds: float,
        *,
        empty: bool = False,
        notes: tuple[str, ...] = (),
    ) -> None:
        self._response = response
        self._address = address
        self._seconds = seconds
        self._empty = empty
        self._decoded = 0
        self._beginning = b""
        self._failure: TransferFailed | None = None
        self.start = start
        self.notes = notes
        # RFC 9110, 14.3
        self.in_parts = "bytes" in response.fields.get("Accept-Ranges", "").lower()
        self.facts = facts
        self.joining = _joining(response, facts.validators)
        framed = response.transfer_codings
        self._receive = decoded(framed, self._receive_some) if framed else self._receive_some
        self._undo = None
        if codings := self._content_codings():
            # What is stored is not what was sent, so neither its length nor its ranges apply, nor
            # do the checksums.
            self._undo = decoded(codings, self._receive_all)
            name = ", ".join(codings)
            self.facts = replace(facts, length=None, coding=name, checksums=(), composite=None)
            self.joining = Resumability.NEVER
        elif coding := stored_coding(response.fields):
            # The store has removed it: lengths and ranges are those of other bytes.
            self.facts = replace(facts, coding=coding)
            self.joining = Resumability.NEVER
        elif framed:
            self.joining = Resumability.NEVER
        elif response.is_delimited:  # an end that a cut may have made is looked at when it is read
            self.whole = response.whole

    def read(self) -> bytes:
        """Return the bytes of one receive; waiting for a full chunk would lose it in a crash."""
        if self._empty:
            return b""
        try:
            data = self._receive_all() if self._undo is None else self._undo()
        except BrokenCoding:
            raise self._strange("invalid content coding", "report it to the server") from None
        except EndsEarly:
            shown = without_secrets(self._address)
            reason = "the compressed answer is incomplete"
            raise ConnectionLost(shown, reason, "try again later") from None
        if self._undo is not None:
            self._decoded += len(data)
            if self._decoded > max(_ALWAYS_ALLOWED_BYTES, _MAX_EXPANSION * self._response.received):
                raise self._strange(
                    f"decompresses to more than {_MAX_EXPANSION} times the bytes received",
                    "refused",
                )
        return data

    @property
    def line_bytes(self) -> int | None:
        """Return the number of encoded bytes received; None without a coding."""
        return None if self._undo is None else self._response.received

    def close(self) -> None:
        """Close the connection, unless the whole body has come."""
        self._response.close()

    def _receive_all(self) -> bytes:
        """Return the next bytes of the content, starting with those already inspected."""
        if self._beginning:
            data, self._beginning = self._beginning, b""
            return data
        return self._receive()

    def _receive_some(self) -> bytes:
        """Return the next bytes without the chunk framing; empty at the end.

        A small rest is waited for a moment, since a second round costs a small file more than it
        can save.
        """
        rest = self._response.left
        is_small = rest is not None and rest <= _MAX_DRAINED_BYTES
        data = self._receive_once()
        if is_small and data and len(data) < (rest or 0):
            pieces = [data]
            until = time.monotonic() + _DRAIN_SECONDS
            while self._response.left and time.monotonic() < until:
                try:
                    data = self._receive_once()
                except TransferFailed as error:
                    self._failure = error  # what came before it is not lost
                    break
                if not data:
                    break
                pieces.append(data)
            return b"".join(pieces)
        return data

    def _receive_once(self) -> bytes:
        if self._failure is not None:
            raise self._failure
        self._response.allow(self._seconds)
        try:
            data = self._response.read(CHUNK)
        except (OSError, http.client.HTTPException) as error:
            raise translate(
                error, self._address, host_of(self._address), self._seconds, reading=True
            ) from error
        if not data and self._was_cut():
            raise ConnectionLost(
                without_secrets(self._address),
                "the TLS connection was closed before the answer was complete",
                "try again later",
            )
        return data

    def _was_cut(self) -> bool:
        """Whether a body that ends with its connection was truncated (RFC 9112, 9.8)."""
        return self._response.was_cut and not self._response.is_delimited

    def _content_codings(self) -> tuple[str, ...]:
        """Return the content codings to remove, although none was requested.

        Servers label files with codings that these do not have, such as archives that are gzip
        files. What is plainly the file that was requested is taken as it is, and so is a part:
        parts are only requested of what was taken so.
        """
        if self.start:
            return ()
        listed = self._response.fields.get("Content-Encoding", "").lower().split(",")
        labels = [each.strip() for each in listed]
        labels = [each for each in labels if each and each not in _NO_CODINGS]
        if not labels:
            return ()
        self._beginning = self._receive()
        if not self._beginning:
            return ()
        name = urlsplit(self._address).path.rpartition("/")[2]
        codings = tuple(NAMES.get(each, "") for each in labels)
        is_gzip = self._beginning.startswith(GZIP_MAGIC)
        as_named = begins_as_named(name, self._beginning)
        if is_gzip and as_named and codings[-1] == "gzip":
            # An archive that is labelled as what it is, or one that was packed once more.
            return codings if is_gzip_within(self._beginning) else ()
        fits = all(codings) and len(codings) <= _MAX_CODINGS
        fits = fits and (is_gzip or codings[-1] != "gzip")
        if as_named:
            self.notes += (f"labelled {', '.join(labels)}, but not encoded so; stored as received",)
            return ()
        if not fits:
            self._response.close()
            raise self._strange(
                f"unsupported content coding {', '.join(labels)[:60]}", "open it in a browser"
            )
        return codings

    def _strange(self, reason: str, advice: str) -> ProtocolError:
        return ProtocolError(without_secrets(self._address), reason, advice)


def _joining(response: Answer, validators: Validators) -> Resumability:
    # RFC 9110, 14.3: only an explicit `none` states that ranges are not served.
    if response.fields.get("Accept-Ranges", "").strip().lower() == "none":
        return Resumability.NEVER
    return Resumability.SAFE if rules.joining_validator(validators) else Resumability.BLIND
