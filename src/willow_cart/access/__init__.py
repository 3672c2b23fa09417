"""How to be let in and talk: every protocol plugs in at one seam, `access.seam.Access`."""

from willow_cart.access.patience import ONCE_MORE, Patience, RequestRules, Retrier
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
    "CHUNK",
    "ONCE_MORE",
    "Access",
    "Delivery",
    "Directory",
    "Entry",
    "FolderEntries",
    "Joining",
    "Patience",
    "RequestRules",
    "Retrier",
    "Store",
    "Unchanged",
]
