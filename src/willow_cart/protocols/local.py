"""Files of this machine: a mounted drive is a place like any other (RFC 8089)."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote, unquote_to_bytes

from willow_cart.errors import ConnectionLost, NotServed, plainly
from willow_cart.model import OWN_FOLDER, Metadata, Validators
from willow_cart.protocols.base import (
    CHUNK,
    Access,
    DirectoryEntry,
    DirectoryLister,
    Download,
    FolderEntries,
    Resumability,
    Unchanged,
)

if TYPE_CHECKING:
    from willow_cart.protocols.router import AccessSettings


def address_of(path: Path | str) -> str:
    """Return the `file:` address of a path; of a folder with a slash at its end."""
    raw = os.fsencode(os.path.abspath(path))
    return f"file://{quote(raw)}" + ("/" if os.path.isdir(path) and raw != b"/" else "")


def path_of(address: str) -> str:
    """Return the path that a `file:` address stands for."""
    return os.fsdecode(_path_of(address))


def connect(_settings: AccessSettings) -> LocalAccess:
    """Return what reads files of this machine."""
    return LocalAccess()


class LocalAccess(Access, DirectoryLister):
    """Read files and folders of this machine."""

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Open a file; it goes on where it is asked to if it has not changed since."""
        delivery = LocalDownload(address, _open(address))
        same = validators is not None and delivery.facts.validators == validators
        if same and not start and end is None:
            delivery.close()
            return Unchanged(delivery.facts)
        if start and (same or validators is None):
            delivery.begin_at(start)
        return delivery

    def ask(self, address: str) -> Metadata:
        """Say what is known of a file."""
        delivery = LocalDownload(address, _open(address))
        delivery.close()
        return delivery.facts

    def directory(self, address: str) -> DirectoryLister:  # noqa: ARG002  # there is one for all
        """Itself."""
        return self

    def find(self, address: str) -> DirectoryEntry | None:
        """Return what lies there."""
        path = _path_of(address.rstrip("/"))
        try:
            status = os.stat(path or b"/")
        except OSError:
            return None
        if os.path.isdir(path or b"/"):
            return DirectoryEntry(address if address.endswith("/") else f"{address}/")
        return DirectoryEntry(address.rstrip("/"), status.st_size, _moment(status))

    def entries(self, folder: str) -> FolderEntries:
        """List a folder, by name; pipes, devices and this product's own folder left out."""
        try:
            with os.scandir(_path_of(folder)) as scan:
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
        """There is nothing to let go of."""


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
        """Go on from a byte."""
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


def _path_of(address: str) -> bytes:
    return unquote_to_bytes(address.removeprefix("file://"))


def _moment(status: os.stat_result) -> datetime:
    return datetime.fromtimestamp(status.st_mtime, UTC)


def _open(address: str) -> int:
    try:
        file = os.open(_path_of(address), os.O_RDONLY | os.O_NONBLOCK)
    except OSError as error:
        raise _not_served(address, error) from error
    if not os.path.isfile(file):  # a pipe would be waited for, a folder cannot be read
        os.close(file)
        raise NotServed(address, "not a file", "name a file", status=404)
    return file


def _not_served(address: str, error: OSError) -> NotServed:
    reason = f"cannot be read: {plainly(error)}"
    return NotServed(address, reason, "check the path", status=404)
