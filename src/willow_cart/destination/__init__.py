"""The destination: safe names and paths, and the only access to files in it."""

from willow_cart.destination.destination import PARTIAL, Destination, cannot_store
from willow_cart.destination.disk import DiskRoom, is_case_sensitive, largest_file_at, room_at
from willow_cart.destination.names import fold, is_safe_path, marked_name, safe_name, safe_path
from willow_cart.destination.portability import Unportable, unportable
from willow_cart.destination.tree import FileTree, Stamp
from willow_cart.platform.links import LinkFound

__all__ = [
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
    "largest_file_at",
    "marked_name",
    "room_at",
    "safe_name",
    "safe_path",
    "unportable",
]
