"""The known files of a destination, for many lookups in a row."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Self

from willow_cart.destination import is_safe_path
from willow_cart.identity import AddressId, LedgerKey, ledger_key
from willow_cart.kinds import kind_of
from willow_cart.ledger.entries import (
    Arrival,
)
from willow_cart.ledger.ledger import ARRIVAL_COLUMNS, OF_ARCHIVE
from willow_cart.ledger.opening import DAMAGE, LedgerFile, altered, unreadable
from willow_cart.ledger.validation import (
    Altered,
    read_arrival,
)
from willow_cart.redaction import INSIDE


class KnownFiles:
    """The latest arrivals by address, for lookups from several threads.

    It reads by a connection of its own, so that nothing need be held in memory and no reader
    waits for the writer.

    Args:
        path: of the ledger, which is there.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._file = LedgerFile(path)
        self._base = self._file.base
        self._salt = self._file.salt
        self._lock = threading.Lock()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, _: object, error: BaseException | None, __: object) -> None:
        self._file.close()
        if isinstance(error, DAMAGE):
            raise unreadable(self._path, error) from None

    def get(self, identifier: AddressId) -> Arrival | None:
        """Return the latest arrival of the address with an identifier, or None."""
        row = self._latest(ARRIVAL_COLUMNS, identifier)
        return None if row is None else self._read(row)

    def _read(self, row: tuple[Any, ...]) -> Arrival:
        try:
            return read_arrival(row)
        except Altered as error:
            raise altered(self._path, str(error)) from None

    def key_of(self, identifier: AddressId) -> LedgerKey:
        """Return the key of an address in this ledger."""
        return ledger_key(identifier, self._salt)

    def members_of(self, archive: Arrival) -> list[Arrival]:
        """Return the files unpacked from an archive that exist."""
        statement = f"SELECT {ARRIVAL_COLUMNS} FROM arrival AS a WHERE {OF_ARCHIVE}"
        with self._lock:
            rows = self._base.execute(statement, (f"{archive.key}{INSIDE}",)).fetchall()
        return [*map(self._read, rows)]

    def path_of(self, identifier: AddressId) -> str | None:
        """Return the path of the latest arrival of an address; None if no file is there.

        A path belongs to the latest arrival, so that no two addresses have the same path.
        """
        row = self._latest("path, id, key", identifier)
        if row is None:
            return None
        path, number, key = row
        statement = "SELECT key FROM arrival WHERE path = ? AND id > ? ORDER BY id DESC LIMIT 1"
        with self._lock:
            later = self._base.execute(statement, (path, number)).fetchone()
        if later is not None and later[0] != key:
            return None
        if not (isinstance(path, str) and is_safe_path(path)):
            raise altered(self._path, f"{path!r:.80} is not a path for a file")
        return path

    def is_known(self, identifier: AddressId) -> bool:
        """Whether a file from an address arrived or was started.

        What was filed as a page may list now.
        """
        statement = (
            "SELECT path FROM arrival WHERE key = ?1 UNION ALL"
            " SELECT 'part' FROM part WHERE key = ?1 LIMIT 1"
        )
        with self._lock:
            found = self._base.execute(statement, (self.key_of(identifier),)).fetchone()
        return found is not None and kind_of(str(found[0])) != "page"

    def paths(self) -> Iterator[str]:
        """Yield the paths of the latest arrivals that have keys.

        A file of an early version that has none is fetched once more; it keeps its path if it is
        the same.
        """
        latest = (
            "SELECT path FROM arrival WHERE key != ''"
            " AND id IN (SELECT max(id) FROM arrival GROUP BY key)"
        )
        with self._lock:
            for (path,) in self._base.execute(latest):
                yield str(path)

    def without_keys(self) -> int:
        """Return how many files of an early version cannot be identified; see `paths`."""
        statement = (
            "SELECT count(*) FROM arrival AS a WHERE key = '' AND instead = '' AND NOT EXISTS"
            " (SELECT 1 FROM arrival AS later WHERE later.path = a.path AND later.id > a.id)"
        )
        with self._lock:
            (count,) = self._base.execute(statement).fetchone()
        return int(count)

    def __bool__(self) -> bool:
        with self._lock:
            return self._base.execute("SELECT 1 FROM arrival LIMIT 1").fetchone() is not None

    def _latest(self, columns: str, identifier: AddressId) -> tuple[Any, ...] | None:
        statement = f"SELECT {columns} FROM arrival WHERE key = ? ORDER BY id DESC LIMIT 1"
        key = self.key_of(identifier)
        with self._lock:
            found: tuple[Any, ...] | None = self._base.execute(statement, (key,)).fetchone()
        return found
