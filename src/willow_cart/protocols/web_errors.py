"""Translate exceptions of the HTTP library and the system."""

from __future__ import annotations

import errno
import http.client
import socket
import ssl

from willow_cart.errors import (
    TOO_MANY_FILES,
    ConnectionLost,
    HostUnknown,
    NotServed,
    NotTrusted,
    ProtocolError,
    TimedOut,
    TransferFailed,
    too_many_files,
)
from willow_cart.protocols.http.http_response import FramingError
from willow_cart.redaction import without_secrets
from willow_cart.units import format_duration


def no_connection(error: BaseException | None, address: str, host: str) -> TransferFailed:
    """Return the error for a connection that could not be made.

    Args:
        address: the file that was requested.
        host: the host that was to be talked to, which redirects may have changed.
    """
    shown = without_secrets(address)
    match error:
        case socket.gaierror(errno=socket.EAI_AGAIN):
            return ConnectionLost(shown, f"no name server answered for {host}", "check the network")
        case socket.gaierror():
            return HostUnknown(shown, f"unknown host {host}", "check the address")
        case ssl.SSLError():
            return _not_trusted(error, shown, host)
        case TimeoutError():
            return TimedOut(
                shown, f"{host} cannot be reached: timed out", "check that the server is running"
            )
        case OSError(errno=number) if number in TOO_MANY_FILES:
            return too_many_files(shown)
        case OSError(errno=errno.ECONNREFUSED):
            reason = f"connection refused by {host}"
        case OSError(errno=errno.ENETUNREACH | errno.EHOSTUNREACH):
            reason = f"no route to {host}"
        case _:
            reason = f"cannot connect to {host}"
    return ConnectionLost(shown, reason, "check that the server is running")


def translate(
    error: Exception, address: str, host: str, stall_after: float, *, reading: bool = False
) -> TransferFailed:
    """Translate an exception of the HTTP library or the system into one of ours.

    Args:
        address: the file that was requested.
        host: the host that was being talked to, which redirects may have changed.
        stall_after: the silence in seconds that counts as a stall.
        reading: whether the body was on its way already.
    """
    shown = without_secrets(address)
    match error:
        case ssl.SSLError() if not reading:
            return _not_trusted(error, shown, host)
        case TimeoutError():
            return TimedOut(shown, f"no data for {format_duration(stall_after)}", "try later")
        case FramingError():
            reason = f"invalid HTTP response: {error}"
            return ProtocolError(shown, reason, "report it to the server")
        case http.client.InvalidURL():
            return ProtocolError(shown, f"{host} cannot be asked", "check the address")
        case http.client.IncompleteRead() | http.client.RemoteDisconnected():
            pass
        case http.client.HTTPException():
            return ProtocolError(shown, "invalid HTTP response", "report it to the server")
    when = "before the file was complete" if reading else "before an answer came"
    return ConnectionLost(shown, f"the connection broke {when}", "try again later")


def _not_trusted(error: ssl.SSLError, shown: str, host: str) -> NotTrusted:
    reason = f"no secure connection to {host}: {_ssl_reason(error)}"
    return NotTrusted(shown, reason, "check the address and this machine's clock")


def _ssl_reason(error: ssl.SSLError) -> str:
    """Return the reason that OpenSSL gives."""
    if isinstance(error, ssl.SSLCertVerificationError):
        return error.verify_message.rstrip(".")
    reason = getattr(error, "reason", None)
    return reason.replace("_", " ").lower() if reason else "not verified"


_HOW_TO_OPEN = "give --user ACCOUNT and --account-key env:NAME, or --shared-access env:NAME"
_WRONG_KEY = "check --account-key or --shared-access, and this machine's clock"
_NO_RIGHT = "ask for a key or a signature that may list and read"

BLOB_ERRORS = {
    "NoAuthenticationInformation": ("not open to everybody", _HOW_TO_OPEN),
    "PublicAccessNotPermitted": ("not open to everybody", _HOW_TO_OPEN),
    "ResourceNotFound": (
        "not there, or not open to everybody",
        f"check the name; {_HOW_TO_OPEN}",
    ),
    "ContainerNotFound": ("no such container", "check its name"),
    "BlobNotFound": ("no such object", "check the address; survey lists the objects"),
    "AuthenticationFailed": ("the store does not accept the key", _WRONG_KEY),
    "InvalidAuthenticationInfo": ("the store does not accept the key", _WRONG_KEY),
    "AuthorizationFailure": ("the store refuses the key", f"{_WRONG_KEY}; or {_NO_RIGHT}"),
    "AuthorizationPermissionMismatch": ("the key may not do this", _NO_RIGHT),
}
"""What blob stores say by the field x-ms-error-code, and what a user can do about it."""


def explain_blob(code: str, status: int, shown: str, *, signed: bool) -> NotServed:
    """Return the error for the refusal of a blob store.

    Args:
        code: its own word for it, one of `BLOB_ERRORS`.
        status: of the answer.
        shown: the address, without secrets.
        signed: whether a key or a signature was used.
    """
    reason, advice = BLOB_ERRORS[code]
    if not signed and status in (401, 403):
        reason, advice = BLOB_ERRORS["PublicAccessNotPermitted"]
    return NotServed(shown, f"{reason} ({status} {code})", advice, status=status)
