"""Test how a host is reached, step by step: name, port, TLS."""

from __future__ import annotations

import contextlib
import socket
import ssl
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from willow_cart.errors import ConnectionLost, HostUnknown, NotTrusted, TimedOut
from willow_cart.structs import Value


class Reached(Value):
    """The result of a step.

    Attributes:
        addresses: of the host, as numbers, in the order in which they are tried.
        seconds: how long the step took.
    """

    addresses: tuple[str, ...]
    seconds: float


class SecuredConnection(Value):
    """A TLS connection.

    Attributes:
        version: of TLS.
        subject: whom the certificate names.
        until: how long it is good.
    """

    version: str
    subject: str
    until: datetime | None


def resolve(host: str, port: int, clock: Callable[[], float] = time.monotonic) -> Reached:
    """Resolve the name of a host.

    Raises:
        HostUnknown: it has none, as far as this machine knows.
    """
    began = clock()
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except OSError as error:
        if isinstance(error, socket.gaierror) and error.errno == socket.EAI_AGAIN:
            advice = "no name server answers: check the network"
        else:
            advice = "check the address"
        raise HostUnknown(host, "unknown host", advice) from error
    return Reached(tuple(dict.fromkeys(str(each[4][0]) for each in found)), clock() - began)


def connect(
    host: str, port: int, timeout: float, clock: Callable[[], float] = time.monotonic
) -> Reached:
    """Connect to a port, and disconnect.

    Raises:
        ConnectionLost, TimedOut: no answer.
    """
    began = clock()
    try:
        with socket.create_connection((host, port), timeout) as connection:
            return Reached((str(connection.getpeername()[0]),), clock() - began)
    except ConnectionRefusedError as error:
        raise ConnectionLost(
            host, f"no answer at port {port}", "check the port and that the server is running"
        ) from error
    except TimeoutError as error:
        raise TimedOut(
            host, f"port {port} does not answer in time", "a firewall may be in the way"
        ) from error
    except OSError as error:
        reason = f"port {port} cannot be reached: {error.strerror or error}"
        raise ConnectionLost(host, reason, "check the network") from error


def secure(host: str, port: int, timeout: float, context: ssl.SSLContext) -> SecuredConnection:
    """Make a TLS connection, and disconnect.

    Raises:
        NotTrusted: the host does not prove who it is, or speaks no TLS.
        ConnectionLost: the connection broke.
    """
    try:
        with (
            socket.create_connection((host, port), timeout) as plain,
            context.wrap_socket(plain, server_hostname=host) as secured,
        ):
            return describe(secured)
    except ssl.SSLCertVerificationError as error:
        raise NotTrusted(
            host,
            f"certificate verification failed: {error.verify_message.rstrip('.')}",
            "check the address and this machine's clock; use --ca to trust another authority",
        ) from error
    except ssl.SSLError as error:
        reason = (error.reason or str(error)).replace("_", " ").lower()
        raise NotTrusted(
            host, f"the server does not use TLS: {reason}", "try without it"
        ) from error
    except OSError as error:
        raise ConnectionLost(
            host, "the connection was lost during the TLS handshake", "try again later"
        ) from error


def describe(secured: ssl.SSLSocket) -> SecuredConnection:
    """Describe a TLS connection."""
    certificate: Any = secured.getpeercert() or {}
    names = [value for part in certificate.get("subject", ()) for key, value in part
             if key == "commonName"]  # fmt: skip
    until = None
    with contextlib.suppress(KeyError, ValueError):
        stamp = ssl.cert_time_to_seconds(str(certificate["notAfter"]))
        until = datetime.fromtimestamp(stamp, UTC)
    return SecuredConnection(secured.version() or "TLS", str(names[0]) if names else "", until)
