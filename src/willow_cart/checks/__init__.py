"""Verify files: digests measured during the download, and checksum lists."""

from willow_cart.checks.checksum_files import (
    ChecksumBook,
    ListedChecksum,
    is_checksum_line,
    read_checksum_list,
)
from willow_cart.checks.digests import RunningDigest, digest_of, read_checksum, written
from willow_cart.checks.inspection import inspect
from willow_cart.checks.verdicts import proves_composite, verdict_of, weakness_of

__all__ = [
    "ChecksumBook",
    "ListedChecksum",
    "RunningDigest",
    "digest_of",
    "inspect",
    "is_checksum_line",
    "proves_composite",
    "read_checksum",
    "read_checksum_list",
    "verdict_of",
    "weakness_of",
    "written",
]
