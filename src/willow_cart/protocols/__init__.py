"""Access to servers: each protocol implements `protocols.base.Access`."""

from willow_cart.protocols.base import (
    CHUNK,
    Access,
    DirectoryEntry,
    DirectoryLister,
    Download,
    FolderEntries,
    ObjectStore,
    Resumability,
    Unchanged,
)
from willow_cart.protocols.retry import (
    BUSY,
    Cause,
    Failure,
    GiveUp,
    Retrier,
    Retry,
    RetryPolicy,
)

__all__ = [
    "BUSY",
    "CHUNK",
    "Access",
    "Cause",
    "DirectoryEntry",
    "DirectoryLister",
    "Download",
    "Failure",
    "FolderEntries",
    "GiveUp",
    "ObjectStore",
    "Resumability",
    "Retrier",
    "Retry",
    "RetryPolicy",
    "Unchanged",
]
