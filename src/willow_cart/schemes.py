"""The protocols: one line per address scheme, and one module in `willow_cart.protocols`.

What is particular to a scheme (its port, whether its addresses have queries, how it lists) is asked
of here. Its module has a function `connect(settings)` that returns an `Access`.
"""

from __future__ import annotations

from enum import Enum

from willow_cart.structs import Value


class Lists(Enum):
    """How a protocol lists files."""

    DOCUMENTS = "documents"
    """By pages and other documents, as on the web."""
    FOLDERS = "folders"
    """Folder by folder."""
    KEYS = "keys"
    """By the keys of objects; dots and slashes mean nothing in them."""


class Secured(Enum):
    """When a connection uses TLS."""

    NEVER = "never"
    ALWAYS = "always"
    ON_ITS_PORT = "on its port"
    """From the beginning on its own port; on others after the first words."""


class Scheme(Value):
    """The properties of an address scheme.

    Attributes:
        name: with which they begin.
        port: that need not be written, or None.
        module: what speaks it.
        lists: how it lists its content.
        has_queries: whether a question mark starts a query, and not a wildcard or part of a name.
        secured: when TLS begins.
        is_typed: whether users type such addresses.
        has_users: whether the name of a user is part of the address, and no secret.
    """

    name: str
    port: int | None
    module: str
    lists: Lists
    has_queries: bool = False
    secured: Secured = Secured.NEVER
    is_typed: bool = True
    has_users: bool = False


_FTP = "willow_cart.protocols.ftp.ftp_access"

# FTP has no queries (RFC 1738, 3.2.2), and neither have files (RFC 8089, 2).
_SCHEMES = (
    Scheme("https", 443, "willow_cart.protocols.web", Lists.DOCUMENTS, True, Secured.ALWAYS),
    Scheme("http", 80, "willow_cart.protocols.web", Lists.DOCUMENTS, True),
    Scheme("ftp", 21, _FTP, Lists.FOLDERS),
    Scheme("ftps", 990, _FTP, Lists.FOLDERS, False, Secured.ON_ITS_PORT),
    Scheme("sftp", 22, "willow_cart.protocols.sftp.sftp_access", Lists.FOLDERS, has_users=True),
    Scheme("s3", None, "willow_cart.protocols.bucket", Lists.KEYS),
    Scheme("gs", None, "willow_cart.protocols.bucket", Lists.KEYS),
    Scheme("file", None, "willow_cart.protocols.local", Lists.FOLDERS, is_typed=False),
)

SCHEMES = {each.name: each for each in _SCHEMES}
"""The schemes by their names."""
