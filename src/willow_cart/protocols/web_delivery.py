"""Read the body of a web response: framing, codings, and proof that it is complete."""

from __future__ import annotations

import http.client
import time
from urllib.parse import urlsplit

from willow_cart.addresses import host_of
from willow_cart.errors import ConnectionLost, ProtocolError, TransferFailed
from willow_cart.kinds import begins_as_named
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import CHUNK, Download, Resumability
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.http.content_coding import (
    GZIP_MAGIC,
    NAMES,
    BrokenCoding,
    EndsEarly,
    decoded,
    is_gzip_within,
)
from willow_cart.protocols.http.http_connection import Answer
from willow_cart.protocols.promises import stored_coding
from willow_cart.protocols.web_errors import translate
from willow_cart.redaction import without_secrets
from willow_cart.structs import replace

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
        notes: what is already to be told of it.

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
        framed = response.response.transfer_codings
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
        answer = self._response.response
        return answer.reader.was_cut and not answer.is_delimited

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
    # RFC 9110, 14.3: only an explicit `none` says that ranges are not served.
    if response.fields.get("Accept-Ranges", "").strip().lower() == "none":
        return Resumability.NEVER
    return Resumability.SAFE if rules.joining_validator(validators) else Resumability.BLIND
