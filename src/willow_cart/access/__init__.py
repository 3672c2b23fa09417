"""How to be let in and talk: every protocol plugs in at one seam, `access.seam.Access`."""

from willow_cart.access.retry import (
    BUSY,
    ONCE_MORE,
    Cause,
    Failure,
    GiveUp,
    Patience,
    RequestRules,
    Retrier,
    Retry,
)
from willow_cart.access.seam import (
    CHUNK,
    Access,
    Delivery,
    Directory,
    Entry,
    FolderEntries,
    Joining,
    Store,
    Unchanged,
)

__all__ = [
    "BUSY",
    "CHUNK",
    "ONCE_MORE",
    "Access",
    "Cause",
    "Delivery",
    "Directory",
    "Entry",
    "Failure",
    "FolderEntries",
    "GiveUp",
    "Joining",
    "Patience",
    "RequestRules",
    "Retrier",
    "Retry",
    "Store",
    "Unchanged",
]
