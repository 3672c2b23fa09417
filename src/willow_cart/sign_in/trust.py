"""Trusted certificates, and client certificates (TLS, RFC 8446)."""

from __future__ import annotations

import ssl
from collections.abc import Callable
from functools import cached_property
from pathlib import Path

from willow_cart.errors import BadOption
from willow_cart.sign_in.origins import Credential, NamedOrigins
from willow_cart.structs import Value


class Trust(Value):
    """The certificates to trust and to present, as files.

    Attributes:
        ca: certificates that are trusted besides the system's.
        client_cert: identifies the user.
        client_key: its key, if that is in another file.
    """

    ca: Path | None = None
    client_cert: Path | None = None
    client_key: Path | None = None

    def absolute(self) -> Trust:
        """Return the same files, by paths that hold in any folder."""
        files = (self.ca, self.client_cert, self.client_key)
        return Trust(*(each and each.absolute() for each in files))

    def context(self, *, with_certificate: bool = True) -> ssl.SSLContext:
        """Return a TLS context.

        Args:
            with_certificate: whether it presents the client certificate.

        Raises:
            BadOption: a file cannot be read.
        """
        if self.client_key is not None and self.client_cert is None:
            raise BadOption("--client-key", "requires --client-cert")
        context = ssl.create_default_context()
        try:
            option = f"--ca {self.ca}"
            if self.ca is not None:
                context.load_verify_locations(self.ca)
            option = f"--client-cert {self.client_cert}"
            if self.client_cert is not None and with_certificate:
                # An empty password: a prompt would hang at night.
                context.load_cert_chain(self.client_cert, self.client_key, password="")
        except (OSError, ssl.SSLError) as error:
            raise BadOption(option, f"cannot be read: {error}", "check the file") from None
        return context


ContextFor = Callable[[str], ssl.SSLContext]
"""Returns the TLS context for an origin."""


class TlsContexts:
    """The TLS contexts of a command: with its client certificate, and without.

    Each is made when it is first needed: reading the system's certificates takes a while.

    Args:
        trust: the certificates.
        origins: who named which origins.
    """

    def __init__(self, trust: Trust, origins: NamedOrigins) -> None:
        self._trust = trust
        self._origins = origins

    def __call__(self, origin: str) -> ssl.SSLContext:
        """Return the context for an origin."""
        if self._trust.client_cert is None:
            return self._without
        may_show = self._origins.allow(Credential.CLIENT_CERTIFICATE, origin)
        return self._with if may_show else self._without

    @cached_property
    def _with(self) -> ssl.SSLContext:
        return self._trust.context()

    @cached_property
    def _without(self) -> ssl.SSLContext:
        return self._trust.context(with_certificate=False)
