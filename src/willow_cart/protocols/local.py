"""Local files as a protocol (RFC 8089), such as those on a mounted drive."""

from __future__ import annotations

import os
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote

from willow_cart.errors import ConnectionLost, NotServed, plainly
from willow_cart.model import OWN_FOLDER, Metadata, Validators
from willow_cart.outside_values import moment_at
from willow_cart.platform import files
from willow_cart.protocols.base import (
    CHUNK,
    Access,
    DirectoryEntry,
    DirectoryLister,
    Download,
    FolderEntries,
    Lister,
    Resumability,
    Unchanged,
)

if TYPE_CHECKING:
    from willow_cart.protocols.router import AccessSettings


def address_of(path: Path | str) -> str:
    """Return the `file:` address of a path; folders end with a slash."""
    raw = os.fsencode(os.path.abspath(path))
    return f"file://{quote(files.address_bytes(raw))}" + (
        "/" if os.path.isdir(path) and raw != b"/" else ""
    )


def path_of(address: str) -> str:
    """Return the path of a `file:` address."""
    return os.fsdecode(files.path_of_address(address))


def connect(_settings: AccessSettings) -> LocalAccess:
    """Build the access to local files."""
    return LocalAccess()


class LocalAccess(Access, DirectoryLister):
    """Access to local files and folders."""

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Open a file; a later start is honoured if the file has not changed."""
        delivery = LocalDownload(address, _open(address))
        same = validators is not None and delivery.facts.validators == validators
        if same and not start and end is None:
            delivery.close()
            return Unchanged(delivery.facts)
        if start and (same or validators is None):
            delivery.begin_at(start)
        return delivery

    def ask(self, address: str) -> Metadata:
        """Return the metadata of a file."""
        delivery = LocalDownload(address, _open(address))
        delivery.close()
        return delivery.facts

    def lister(self, address: str, *, webdav: bool = False) -> Lister | None:
        """Return this object."""
        return super().lister(address, webdav=True) if webdav else self

    def find(self, address: str) -> DirectoryEntry | None:
        """Return the entry at an address."""
        path = files.path_of_address(address.rstrip("/"))
        try:
            status = os.stat(path or b"/")
        except OSError:
            return None
        if os.path.isdir(path or b"/"):
            return DirectoryEntry(address if address.endswith("/") else f"{address}/")
        return DirectoryEntry(address.rstrip("/"), status.st_size, _moment(status))

    def entries(self, folder: str) -> FolderEntries:
        """List a folder by name, without special files and the folder `.willow`."""
        try:
            with os.scandir(files.path_of_address(folder)) as scan:
                found = sorted(scan, key=lambda entry: entry.name)
        except OSError as error:
            raise _not_served(folder, error) from error
        entries = []
        for entry in found:
            address = folder + quote(entry.name)
            if entry.is_dir():
                if entry.name != OWN_FOLDER.encode():
                    entries.append(DirectoryEntry(f"{address}/"))
            elif entry.is_file():
                status = entry.stat()
                entries.append(DirectoryEntry(address, status.st_size, _moment(status)))
        return FolderEntries(entries)

    def close(self) -> None:
        """Do nothing."""


class LocalDownload(Download):
    """An open file."""

    joining = Resumability.SAFE
    in_parts = True

    def __init__(self, address: str, file: int) -> None:
        status = os.fstat(file)
        mark = f'"{status.st_size:x}-{status.st_mtime_ns:x}"'
        self.facts = Metadata(
            address, status.st_size, Validators(entity_tag=mark), modified=_moment(status)
        )
        self.start = 0
        self._file = file

    def begin_at(self, start: int) -> None:
        """Seek to a byte."""
        os.lseek(self._file, start, os.SEEK_SET)
        self.start = start

    def read(self) -> bytes:
        """Return the next bytes."""
        try:
            return os.read(self._file, CHUNK)
        except OSError as error:
            reason = f"cannot be read: {error.strerror}"
            raise ConnectionLost(self.facts.address, reason, "check the drive") from error

    def close(self) -> None:
        """Close the file."""
        if self._file >= 0:
            os.close(self._file)
            self._file = -1


def _moment(status: os.stat_result) -> datetime | None:
    return moment_at(status.st_mtime)


def _open(address: str) -> int:
    try:
        file = files.open_to_look(files.path_of_address(address))
    except OSError as error:
        raise _not_served(address, error) from error
    if not os.path.isfile(file):  # a pipe would be waited for, a folder cannot be read
        os.close(file)
        raise NotServed(address, "not a file", "name a file", status=404)
    return file


def _not_served(address: str, error: OSError) -> NotServed:
    reason = f"cannot be read: {plainly(error)}"
    return NotServed(address, reason, "check the path", status=404)
