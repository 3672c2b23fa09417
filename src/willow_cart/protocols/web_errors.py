"""Translate exceptions of the HTTP library and the system."""

from __future__ import annotations

import errno
import http.client
import socket
import ssl

from urllib3 import exceptions as lib

from willow_cart.errors import (
    ConnectionLost,
    HostUnknown,
    NotTrusted,
    ProtocolError,
    TimedOut,
    TransferFailed,
)
from willow_cart.protocols.http_connection import FramingError
from willow_cart.redaction import without_secrets
from willow_cart.units import format_duration


def translate(  # noqa: C901  # a flat map from their errors to ours
    error: Exception, address: str, host: str, stall_after: float, *, reading: bool = False
) -> TransferFailed:
    """Translate an exception of urllib3 or the system into one of ours.

    Args:
        error: what was raised.
        address: the file that was requested.
        host: the host that was being talked to, which redirects may have changed.
        stall_after: the silence in seconds that counts as a stall.
        reading: whether the body was on its way already.
    """
    shown = without_secrets(address)
    match error:
        case lib.NameResolutionError():
            cause = error.__cause__
            if isinstance(cause, socket.gaierror) and cause.errno == socket.EAI_AGAIN:
                return ConnectionLost(
                    shown, f"no name server answered for {host}", "check the network"
                )
            return HostUnknown(shown, f"unknown host {host}", "check the address")
        case lib.SSLError() | ssl.SSLError() if not reading:
            return NotTrusted(shown, f"no secure connection to {host}: {_ssl_reason(error)}",
                              "check the address and this machine's clock")  # fmt: skip
        case lib.NewConnectionError():
            return ConnectionLost(
                shown, _why_unreachable(error, host), "check that the server is running"
            )
        case lib.ConnectTimeoutError():
            return TimedOut(
                shown, f"{host} cannot be reached: timed out", "check that the server is running"
            )
        case lib.TimeoutError() | TimeoutError():
            return TimedOut(shown, f"no data for {format_duration(stall_after)}", "try later")
        case lib.DecodeError():
            return ProtocolError(shown, "invalid content coding", "report it to the server")
        case lib.LocationParseError() | lib.LocationValueError():
            return ProtocolError(shown, f"{host} cannot be asked", "check the address")
        case FramingError() | lib.ProtocolError(args=(_, FramingError())):
            cause = error if isinstance(error, FramingError) else error.args[1]
            return ProtocolError(
                shown, f"not a valid HTTP answer: {cause}", "report it to the server"
            )
        case lib.HeaderParsingError() | lib.InvalidHeader():
            return ProtocolError(shown, "invalid header", "report it to the server")
        case lib.ProtocolError() if _breaks_the_rules(error):
            return ProtocolError(shown, "invalid HTTP response", "check the address")
        case _:
            when = "before the file was complete" if reading else "before an answer came"
            return ConnectionLost(shown, f"the connection broke {when}", "try again later")


def _breaks_the_rules(error: lib.ProtocolError) -> bool:
    """Whether the response was invalid, as opposed to a broken connection."""
    cause = error.args[1] if len(error.args) > 1 else None
    broken = (http.client.IncompleteRead, http.client.RemoteDisconnected)
    return isinstance(cause, http.client.HTTPException) and not isinstance(cause, broken)


def _why_unreachable(error: lib.NewConnectionError, host: str) -> str:
    cause = error.__cause__
    match cause.errno if isinstance(cause, OSError) else None:
        case errno.ECONNREFUSED:
            return f"connection refused by {host}"
        case errno.ENETUNREACH | errno.EHOSTUNREACH:
            return f"no route to {host}"
        case _:
            return f"cannot connect to {host}"


def _ssl_reason(error: Exception) -> str:
    """Return the reason that OpenSSL gives."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ssl.SSLCertVerificationError):
            return cause.verify_message.rstrip(".")
        if isinstance(cause, ssl.SSLError) and getattr(cause, "reason", None):
            return cause.reason.replace("_", " ").lower()
        cause = cause.args[0] if cause.args and isinstance(cause.args[0], Exception) else None
    return "not verified"
