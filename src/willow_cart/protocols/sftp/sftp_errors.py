"""The errors of asyncssh and of the system as ours (draft-ietf-secsh-filexfer-02, 7; RFC 4253)."""

from __future__ import annotations

import concurrent.futures
import socket

import asyncssh

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
from willow_cart.redaction import without_secrets
from willow_cart.units import format_duration

_HOW_TO_SIGN_IN = "give a key (--key), or a name and a password (--user, --password)"

# How servers say that they have no more connections, sessions or open files for this user.
_MUCH = "too many"


def translate(
    error: BaseException, address: str, *, stall_after: float, signed: bool, with_keys: bool
) -> TransferFailed:
    """Translate an exception.

    Args:
        error: of asyncssh or the system.
        address: what was asked for.
        stall_after: seconds without an answer after which a connection is given up.
        signed: whether a sign-in was given.
        with_keys: whether the user's own keys could be used.
    """
    shown = without_secrets(address)
    if isinstance(error, TransferFailed):
        return error
    if isinstance(error, asyncssh.SFTPError):
        return _refused(error, shown)
    if isinstance(error, asyncssh.Error):
        return _no_connection(error, shown, signed=signed, with_keys=with_keys)
    host = host_of(address)
    match error:
        case asyncssh.KeyImportError() | asyncssh.KeyEncryptionError():
            return NotServed(
                shown, f"the key cannot be used: {said_in(error)}", "check --key and --passphrase",
                status=401,
            )  # fmt: skip
        case socket.gaierror() if error.errno != socket.EAI_AGAIN:
            return HostUnknown(shown, f"unknown host {host}", "check the spelling")
        case TimeoutError() | concurrent.futures.TimeoutError():
            return TimedOut(shown, f"no data for {format_duration(stall_after)}", "try later")
        case ConnectionRefusedError():
            return ConnectionLost(
                shown, f"connection refused by {host}", "check that the server is running"
            )
        case _:
            return ConnectionLost(shown, f"the connection to {host} broke", "try again later")


def _refused(error: asyncssh.SFTPError, shown: str) -> TransferFailed:
    """Return the error for a status of the SFTP server; numbers as those of the web."""
    match error:
        case asyncssh.SFTPNoSuchFile() | asyncssh.SFTPNoSuchPath():
            return NotServed(shown, "no such file", "check the address", status=404)
        case asyncssh.SFTPPermissionDenied():
            return NotServed(shown, "permission denied", _HOW_TO_SIGN_IN, status=403)
        case asyncssh.SFTPConnectionLost() | asyncssh.SFTPNoConnection():
            return ConnectionLost(shown, "the connection broke", "try again later")
        case asyncssh.SFTPFailure() if _MUCH in said_in(error).lower():
            return _busy(error, shown)
        case _:
            reason = f"refused: {said_in(error)}"
            return NotServed(shown, reason, "ask those who run the server", status=500)


def _no_connection(
    error: asyncssh.Error, shown: str, *, signed: bool, with_keys: bool
) -> TransferFailed:
    """Return the error for a connection that was not made, or was ended by the server."""
    said = said_in(error)
    match error:
        case asyncssh.PermissionDenied() if not (signed or with_keys):
            return NotServed(
                shown,
                "sign-in refused: your SSH keys are not used for an address that a server named",
                "give the server's address, as a source or with --sign-in-at",
                status=401,
            )
        case asyncssh.PermissionDenied():
            advice = "check the name, the secret and the key" if signed else _HOW_TO_SIGN_IN
            return NotServed(shown, f"sign-in refused: {said}", advice, status=401)
        case asyncssh.HostKeyNotVerifiable():
            return NotTrusted(shown, f"no trusted host key: {said}", "see --host-key")
        case asyncssh.ConnectionLost():
            return ConnectionLost(shown, "the connection broke", "try again later")
        case _ if _MUCH in said.lower():
            return _busy(error, shown)
        case asyncssh.KeyExchangeFailed():
            reason = f"no algorithm in common that is still safe: {said}"
            return NotTrusted(shown, reason, "ask those who run the server to update it")
        case asyncssh.ProtocolError():
            return ProtocolError(shown, f"invalid SSH answer: {said}", "check the address")
        case _:
            return ConnectionLost(shown, f"the server ended the connection: {said}", "try again")


def _busy(error: asyncssh.Error, shown: str) -> ServerBusy:
    return ServerBusy(shown, said_in(error), "use fewer lanes", wait=None, status=421)
