"""Verify files: digests measured during the download, and checksum lists."""
