"""The destination: safe names and paths, and the only access to files in it."""

from willow_cart.destination.destination import (
    LARGEST_ON_FAT,
    PARTIAL,
    Destination,
    DiskRoom,
    Unportable,
    cannot_store,
    is_case_sensitive,
    room_at,
    takes,
    unportable,
)
from willow_cart.destination.names import fold, is_safe_path, marked_name, safe_name, safe_path
from willow_cart.destination.tree import FileTree, Stamp
from willow_cart.platform.own_folders import LinkFound

__all__ = [
    "LARGEST_ON_FAT",
    "PARTIAL",
    "Destination",
    "DiskRoom",
    "FileTree",
    "LinkFound",
    "Stamp",
    "Unportable",
    "cannot_store",
    "fold",
    "is_case_sensitive",
    "is_safe_path",
    "marked_name",
    "room_at",
    "safe_name",
    "safe_path",
    "takes",
    "unportable",
]
