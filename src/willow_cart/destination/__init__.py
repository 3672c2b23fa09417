"""The destination: safe names and paths, and the only access to files in it."""

from willow_cart.destination.destination import PARTIAL, Destination, cannot_store
from willow_cart.destination.disk import (
    begin_to_write_out,
    boot_mark,
    forget_cached,
    is_case_sensitive,
    room_at,
)
from willow_cart.destination.names import fold, is_safe_path, marked_name, safe_name, safe_path
from willow_cart.destination.tree import FileTree, LinkFound, Stamp

__all__ = [
    "PARTIAL",
    "Destination",
    "FileTree",
    "LinkFound",
    "Stamp",
    "begin_to_write_out",
    "boot_mark",
    "cannot_store",
    "fold",
    "forget_cached",
    "is_case_sensitive",
    "is_safe_path",
    "marked_name",
    "room_at",
    "safe_name",
    "safe_path",
]
