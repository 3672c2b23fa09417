"""Is it what was promised: digests measured on the way, and the lists that promise them."""

from willow_cart.checks.digests import RunningDigest, digest_file, read_checksum
from willow_cart.checks.lists import ChecksumBook, Entry, is_checksum_line, read_checksum_list

__all__ = [
    "ChecksumBook",
    "Entry",
    "RunningDigest",
    "digest_file",
    "is_checksum_line",
    "read_checksum",
    "read_checksum_list",
]
