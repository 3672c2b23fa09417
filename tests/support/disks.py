"""Small disks, mounted for a test."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest


@contextmanager
def disk(folder: Path, options: str) -> Iterator[Path]:
    """A small file system of its own."""
    folder.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", options, "tmpfs", str(folder)]
    if os.geteuid() != 0 or subprocess.run(mount, check=False, capture_output=True).returncode:
        pytest.skip("needs the right to mount a small disk")
    try:
        yield folder
    finally:
        subprocess.run(["umount", str(folder)], check=True)
