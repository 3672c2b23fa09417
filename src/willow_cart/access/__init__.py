"""How to be let in and talk: every protocol plugs in at one seam, `access.seam.Access`."""

from willow_cart.access.patience import BRIEFLY, ONCE_MORE, Patience, persist
from willow_cart.access.seam import (
    CHUNK,
    Access,
    Delivery,
    Directory,
    Entry,
    Joining,
    Store,
    Unchanged,
)

__all__ = [
    "BRIEFLY",
    "CHUNK",
    "ONCE_MORE",
    "Access",
    "Delivery",
    "Directory",
    "Entry",
    "Joining",
    "Patience",
    "Store",
    "Unchanged",
    "persist",
]
