"""The errors of ftplib, of the system, and of servers' replies as ours (RFC 959, 4.2)."""

from __future__ import annotations

import errno
import ftplib
import re
import socket
import ssl

from willow_cart.addresses import host_of
from willow_cart.errors import (
    ConnectionLost,
    HostUnknown,
    NotServed,
    NotTrusted,
    ProtocolError,
    ServerBusy,
    TimedOut,
    TransferFailed,
    said_in,
)
from willow_cart.protocols.ftp.ftp_connection import ActiveRefused, PassiveRefused, TlsRefused
from willow_cart.protocols.http.http_rules import HOW_TO_SIGN_IN
from willow_cart.redaction import without_secrets
from willow_cart.units import count_of, format_duration

FOREIGN: tuple[type[Exception], ...] = (*ftplib.all_errors, UnicodeError)
"""What the library and the system raise."""

# What servers say with a 530 that is about how busy they are, and not about who asks.
_TOO_MANY = re.compile(
    r"too many|maximum|max\b|limit|already connected|simultan|connections? (?:from|exceed)"
    r"|later|again|temporar|busy|overload|in use",
    re.IGNORECASE,
)


def translate(
    error: BaseException, address: str, *, stall_after: float, signed: bool, greeted: bool = True
) -> TransferFailed:
    """Translate an exception of ftplib or the system into one of ours.

    Args:
        error: one of `FOREIGN`.
        address: what was asked for.
        stall_after: seconds without a byte after which a connection is given up.
        signed: whether a name and a secret were sent.
        greeted: whether it has shown itself to be an FTP server.
    """
    shown, host = without_secrets(address), host_of(address)
    said = said_in(error)
    match error:
        case socket.gaierror() if error.errno != socket.EAI_AGAIN:
            return HostUnknown(shown, f"unknown host {host}", "check the spelling")
        case ssl.SSLError() | TlsRefused():
            return _not_secured(error, shown, host, said)
        case PassiveRefused() | ActiveRefused():
            return _no_data(error, shown, host, said.rstrip("."))
        case TimeoutError():
            waited = format_duration(stall_after)
            return TimedOut(shown, f"no data for {waited}", "try later")
        case ftplib.error_temp() | ftplib.error_perm():
            return _refused(said, shown, signed=signed)
        case ftplib.error_proto() | ftplib.error_reply() if greeted:
            # Replies and commands are out of step; those of a new connection are not.
            return ConnectionLost(shown, f"unexpected FTP reply: {said}", "try again later")
        case ftplib.error_proto() | ftplib.error_reply() | UnicodeError():
            return ProtocolError(shown, f"invalid FTP reply: {said}", "check the address")
        case OSError() if error.errno == errno.ECONNREFUSED:
            return ConnectionLost(
                shown, f"connection refused by {host}", "check that the server is running"
            )
        case _:
            return ConnectionLost(shown, f"the connection to {host} broke", "try again later")


def _not_secured(error: BaseException, shown: str, host: str, said: str) -> NotTrusted:
    """Return the error for a server with which TLS fails."""
    match error:
        case ssl.SSLCertVerificationError():
            reason = f"no secure connection to {host}: {error.verify_message.rstrip('.')}"
            advice = "check the address, or use --ca to trust another authority"
        case ssl.SSLError():
            reason = f"no secure connection to {host}: {said}"
            advice = "ftps:// on port 990 is secured at once, on others by AUTH TLS"
        case _:
            reason = f"{host} does not offer TLS: {said}"
            advice = "use ftp:// for an unencrypted connection"
    return NotTrusted(shown, reason, advice)


def _no_data(error: BaseException, shown: str, host: str, said: str) -> NotServed:
    """Return the error for a server that makes no data connection."""
    status = _status_in(said)
    if isinstance(error, ActiveRefused):
        return NotServed(
            shown, f"{host} refuses active mode ({said})", "leave out --active", status=status
        )
    return NotServed(
        shown,
        f"{host} refuses passive mode ({said}), and does not reach this machine in active mode",
        "let it connect to this machine, as --active has it, or ask for passive mode there",
        status=status,
    )


def _status_in(said: str) -> int:
    return int(said[:3]) if said[:3].isdigit() else 550


def _refused(said: str, shown: str, *, signed: bool = False) -> TransferFailed:
    """Return the error for a reply 4xx or 5xx (RFC 959, 4.2.1)."""
    reason = said
    if said.startswith("530") and _TOO_MANY.search(said):
        return ServerBusy(shown, reason, "try again later", wait=None, status=421)
    if said.startswith("4"):
        return ServerBusy(shown, reason, "try again later", wait=None, status=int(said[:3]))
    if said.startswith("530"):
        reason = f"sign-in refused: {said}"
        advice = "check the name and the secret" if signed else HOW_TO_SIGN_IN
        return NotServed(shown, reason, advice, status=530)
    return NotServed(shown, reason, "check the address", status=int(said[:3]))


def too_many(address: str, most: int) -> ServerBusy:
    """Return the error for a host that allows no further connection."""
    return ServerBusy(
        without_secrets(address),
        f"{host_of(address)} allows no more than {count_of(most, 'connection')}",
        "use fewer lanes",
        wait=None,
        status=421,
        most=most,
    )
