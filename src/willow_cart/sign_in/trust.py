"""Trusted certificates, and client certificates (TLS, RFC 8446)."""

from __future__ import annotations

import ssl
from dataclasses import dataclass
from pathlib import Path

from willow_cart.errors import BadOption


@dataclass(frozen=True, slots=True)
class Trust:
    """The certificates to trust and to present, as files.

    Attributes:
        ca: certificates that are trusted besides the system's.
        client_cert: proves who asks.
        client_key: its key, if that is in another file.
    """

    ca: Path | None = None
    client_cert: Path | None = None
    client_key: Path | None = None

    def absolute(self) -> Trust:
        """Return the same files, by paths that hold in any folder."""
        files = (self.ca, self.client_cert, self.client_key)
        return Trust(*(each and each.absolute() for each in files))

    def context(self) -> ssl.SSLContext | None:
        """Return the TLS context; None for the system's trust alone.

        Raises:
            BadOption: a file cannot be read.
        """
        if self.client_key is not None and self.client_cert is None:
            raise BadOption("--client-key", "requires --client-cert")
        if self.ca is None and self.client_cert is None:
            return None
        context = ssl.create_default_context()
        try:
            option = f"--ca {self.ca}"
            if self.ca is not None:
                context.load_verify_locations(self.ca)
            option = f"--client-cert {self.client_cert}"
            if self.client_cert is not None:
                # An empty password: a prompt would hang at night.
                context.load_cert_chain(self.client_cert, self.client_key, password="")
        except (OSError, ssl.SSLError) as error:
            raise BadOption(option, f"cannot be read: {error}", "check the file") from None
        return context
