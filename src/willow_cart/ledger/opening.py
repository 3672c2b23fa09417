"""Open the file of a ledger, which is untrusted.

SQLite opens its file by a path, follows links, and trusts the schema in it. So the existing file is
looked at first: the files must be regular files, and the schema must be one of ours, without
views, triggers or anything else that is run when a table is read.
"""

from __future__ import annotations

import errno
import os
import re
import shutil
import sqlite3
import stat
import tempfile
from contextlib import closing, suppress
from functools import cache
from pathlib import Path

from willow_cart.destination import FileTree
from willow_cart.errors import UnreadableLedger
from willow_cart.ledger import schema
from willow_cart.model import OWN_FOLDER

_NAME = f"{OWN_FOLDER}/ledger.db"
_FILES = ("", "-wal", "-shm", "-journal")

# The SQLite database file format, 3.0: ends a rollback journal that names a further file, which
# SQLite would delete. A ledger's journal never has one.
_NAMES_ANOTHER = b"\xd9\xd5\x05\xf9\x20\xa1\x63\xd7"

_LOCK_WAIT_SECONDS = 5.0

# Bytes of a value: the timeline of a haul on a thousand lanes has a tenth of this.
_MAX_VALUE_BYTES = 64 << 20

# With less, SQLite cannot make the index of its journal, and calls that an input or output error.
_MIN_FREE_BYTES = 1 << 20

DAMAGE = (sqlite3.Error, UnicodeDecodeError)
"""What SQLite raises for a ledger that it cannot read, or cannot write now."""


def ledger_path(destination: Path) -> Path:
    """Return the path of the ledger of a destination."""
    return destination / _NAME


def has_ledger(destination: Path) -> bool:
    """Whether there is a file at the ledger's path."""
    return os.path.lexists(ledger_path(destination))


class LedgerFile:
    """The open file of a ledger.

    Args:
        path: where it is, in its destination.
        create: whether it is made if it is not there.

    Attributes:
        base: the connection, in autocommit mode.
        salt: of the keys of addresses; see `identity.ledger_key`.

    Raises:
        UnreadableLedger: it does not exist, is damaged or altered, or it is of a later version.
    """

    def __init__(self, path: Path, *, create: bool = False) -> None:
        self.path = path
        _require_files(path, create=create)
        is_writable = create or os.access(path.parent, os.W_OK)
        self.base = _connect(path) if is_writable else _connect_to_copy(path)
        try:
            self.base.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _MAX_VALUE_BYTES)
            self.base.execute("PRAGMA trusted_schema = OFF")
            self.base.execute("PRAGMA foreign_keys = ON")
            if create:
                # In WAL a commit appends to one file, and readers need not wait for it. A power
                # cut may take commits that were not to last, but never tears the ledger.
                self.base.execute("PRAGMA journal_mode = WAL")
            _require_own_schema(self.base, path)
            schema.bring_up_to_date(self.base, path)
            self.salt = _salt_of(self.base, path)
        except DAMAGE as error:
            self.close()
            raise unreadable(path, error) from None
        except UnreadableLedger:
            self.close()
            raise
        self._identity = _identity_of(path)
        self._is_below_link = path.parent.parent.is_symlink()

    def close(self) -> None:
        """Close it; committed entries are in it."""
        self.base.close()

    def restore(self) -> bool:
        """Create the file again if it was deleted or replaced while open.

        Returns:
            Whether it was.

        Raises:
            sqlite3.Error, OSError: it cannot be made.
        """
        if _identity_of(self.path) == self._identity:
            return False
        root = self.path.parent.parent
        if root.is_symlink() and not self._is_below_link:
            raise OSError(errno.ELOOP, "was replaced by a link", str(root))
        with FileTree(root) as tree:
            tree.make_folder(OWN_FOLDER)
            for ending in _FILES:
                if tree.status(f"{_NAME}{ending}") is not None:
                    tree.move(f"{_NAME}{ending}", f"{_NAME}.replaced{ending}", replaces=True)
        anew = _connect(self.path)
        anew.execute("PRAGMA journal_mode = WAL")
        self.base.backup(anew)
        anew.row_factory = self.base.row_factory
        anew.execute("PRAGMA foreign_keys = ON")
        self.base.close()
        self.base = anew
        self._identity = _identity_of(self.path)
        return True


def _salt_of(base: sqlite3.Connection, path: Path) -> str:
    row = base.execute("SELECT salt FROM identity").fetchone()
    if row is None or type(row[0]) is not str:
        raise altered(path, "the salt of its keys cannot be right")
    return str(row[0])


def _connect(path: Path | str) -> sqlite3.Connection:
    return sqlite3.connect(
        path, isolation_level=None, check_same_thread=False, timeout=_LOCK_WAIT_SECONDS
    )


def _connect_to_copy(path: Path) -> sqlite3.Connection:
    """Open a copy of a ledger on a read-only medium, because SQLite needs to write next to it.

    The copy ends up in a database without a name, which SQLite keeps in a temporary file of its
    own and deletes itself, so a kill leaves nothing of it.

    Raises:
        UnreadableLedger: it cannot be read.
    """
    with tempfile.TemporaryDirectory(prefix="willow-cart-") as folder:
        for ending in ("", "-wal"):
            with suppress(FileNotFoundError):
                shutil.copyfile(f"{path}{ending}", f"{folder}/ledger.db{ending}")
        base = _connect("")
        try:
            with closing(_connect(f"{folder}/ledger.db")) as copy:
                copy.backup(base)
            base.execute("PRAGMA journal_mode = MEMORY")
            base.execute("SELECT * FROM sqlite_master").fetchall()
        except sqlite3.Error as error:
            base.close()
            raise unreadable(path, error) from None
    return base


def unreadable(path: Path, error: Exception) -> UnreadableLedger:
    """Return the error for a ledger that SQLite cannot read or write.

    Only a file that SQLite calls malformed, or no database, is damaged.
    """
    said = str(error)
    # The lowest byte of an extended code is the primary one (SQLite, "Result and Error Codes").
    code = getattr(error, "sqlite_errorcode", sqlite3.SQLITE_CORRUPT) & 0xFF
    match code:
        case sqlite3.SQLITE_CORRUPT | sqlite3.SQLITE_NOTADB:
            return UnreadableLedger(
                str(path),
                f"is damaged: {said}",
                "restore it from a copy, or move it away; the next haul starts a new one",
            )
        case sqlite3.SQLITE_BUSY | sqlite3.SQLITE_LOCKED | sqlite3.SQLITE_PROTOCOL:
            return UnreadableLedger(
                str(path), "is in use by another program", "wait for it, and run the command again"
            )
        case sqlite3.SQLITE_FULL:
            return UnreadableLedger(str(path), "the disk is full", "free some space")
        case sqlite3.SQLITE_IOERR if _is_full(path):
            return UnreadableLedger(str(path), "the disk is full", "free some space")
        case sqlite3.SQLITE_TOOBIG:
            return altered(path, "a value in it is too large")
        case _:
            return UnreadableLedger(
                str(path), f"cannot be opened: {said}", "check its permissions and the disk"
            )


def _is_full(path: Path) -> bool:
    try:
        return shutil.disk_usage(path.parent).free < _MIN_FREE_BYTES
    except OSError:
        return False


def altered(path: Path, what: str) -> UnreadableLedger:
    """Return the error for a ledger that this program did not write."""
    return UnreadableLedger(
        str(path),
        f"was altered: {what}",
        "use a trusted copy of it, or another destination",
    )


def _require_files(path: Path, *, create: bool) -> None:
    """Refuse missing files, and files that SQLite must not open.

    Raises:
        UnreadableLedger: it is one or the other.
    """
    root = path.parent.parent
    try:
        tree = FileTree(root)
    except OSError:
        raise UnreadableLedger(str(root), "not a folder", "name a haul's folder") from None
    with tree:
        own = tree.status(OWN_FOLDER)
        if own is not None and not stat.S_ISDIR(own.st_mode):
            raise altered(path.parent, "it is not a folder")
        for ending in _FILES:
            status = tree.status(f"{_NAME}{ending}")
            if status is not None and not stat.S_ISREG(status.st_mode):
                raise altered(path, f"ledger.db{ending} is not a regular file")
        if not create and tree.status(_NAME) is None:
            raise UnreadableLedger(
                str(root), "contains no ledger; nothing was hauled into it", "name a haul's folder"
            )
        status = tree.status(f"{_NAME}-journal")
        if status is not None and status.st_size >= len(_NAMES_ANOTHER):
            # A program that has just ended its transaction removes it.
            with suppress(FileNotFoundError), tree.open(f"{_NAME}-journal") as journal:
                journal.seek(-len(_NAMES_ANOTHER), os.SEEK_END)
                if journal.read() == _NAMES_ANOTHER:
                    raise altered(path, "its journal names another file")


def _require_own_schema(base: sqlite3.Connection, path: Path) -> None:
    """Refuse a schema that no version of this program creates.

    Raises:
        UnreadableLedger: it is one.
        sqlite3.Error: it cannot be read.
    """
    base.execute("BEGIN")  # both are read at one time: another program may upgrade it meanwhile
    try:
        version = schema.version_of(base)
        found = _structure_of(base)
    finally:
        base.execute("COMMIT")
    if version <= schema.VERSION and found != _structure(version):
        raise altered(path, "its tables are not those of a ledger")


@cache
def _structure(version: int) -> frozenset[tuple[str, str, str]]:
    base = sqlite3.connect(":memory:", isolation_level=None)
    schema.build(base, version)
    structure = _structure_of(base)
    base.close()
    return structure


def _structure_of(base: sqlite3.Connection) -> frozenset[tuple[str, str, str]]:
    rows = base.execute("SELECT type, name, coalesce(sql, '') FROM sqlite_master LIMIT 1000")
    return frozenset((kind, name, _plain(sql)) for kind, name, sql in rows)


def _plain(sql: str) -> str:
    """Return a statement without comments and spaces."""
    return re.sub(r"\s+", "", re.sub(r"--[^\n]*", "", sql))


def _identity_of(path: Path) -> tuple[int, int]:
    try:
        status = os.lstat(path)
    except OSError:
        return (0, 0)
    return status.st_dev, status.st_ino
