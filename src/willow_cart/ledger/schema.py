"""The ledger's tables: one step for each schema version.

All steps and the version number are committed together, so that a crash leaves the old schema or
the new one and nothing between. Steps are only ever added at the end.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from pathlib import Path

from willow_cart.errors import UnreadableLedger
from willow_cart.identity import address_id, ledger_key
from willow_cart.redaction import fingerprint, lacks_secret, without_secrets

_STEPS = (
    """
    CREATE TABLE run (
        id         INTEGER PRIMARY KEY,
        command    TEXT NOT NULL,          -- as typed, without secrets
        started    TEXT NOT NULL,          -- ISO 8601, UTC
        ended      TEXT,                   -- NULL while in progress, and for ever after a crash
        exit_code  INTEGER
    );
    CREATE TABLE arrival (
        id            INTEGER PRIMARY KEY,
        run           INTEGER NOT NULL REFERENCES run,
        address       TEXT NOT NULL,       -- as asked for, without secrets
        final_address TEXT NOT NULL,       -- after redirects, without secrets
        path          TEXT NOT NULL,       -- below the destination, with /
        time          TEXT NOT NULL,       -- ISO 8601, UTC
        size          INTEGER NOT NULL,    -- bytes
        sha256        TEXT NOT NULL,
        entity_tag    TEXT,                -- ETag as it came (RFC 9110, 8.8.3)
        last_modified TEXT,                -- Last-Modified as it came (RFC 9110, 8.8.2)
        expected      TEXT NOT NULL,       -- promised checksums, algorithm:hex, blank between
        verdict       TEXT NOT NULL,       -- by what it was checked
        mtime_ns      INTEGER NOT NULL     -- of the file as it was filed: tells a later change
    );
    CREATE INDEX arrival_by_address ON arrival (address);
    CREATE TABLE result (
        run      INTEGER NOT NULL REFERENCES run,
        number   INTEGER NOT NULL,         -- the file's place in the haul, from 1
        address  TEXT NOT NULL,
        path     TEXT NOT NULL,
        state    TEXT NOT NULL,
        arrival  INTEGER REFERENCES arrival,  -- what lies here now, if anything
        reason   TEXT NOT NULL,            -- why it failed or was refused, else empty
        received INTEGER NOT NULL,         -- bytes that came in this run
        resumed  INTEGER NOT NULL,         -- bytes that an earlier run or attempt had fetched
        attempts INTEGER NOT NULL,
        seconds  REAL NOT NULL,
        PRIMARY KEY (run, number)
    ) WITHOUT ROWID;
    CREATE TABLE part (
        address       TEXT PRIMARY KEY,    -- as asked for, without secrets
        final_address TEXT NOT NULL,
        file          TEXT NOT NULL,       -- name in the folder of partial files
        length        INTEGER,             -- of the whole representation
        entity_tag    TEXT,
        last_modified TEXT,
        date          TEXT,
        joining       TEXT NOT NULL,       -- whether the rest can be joined: safe, blind
        sealed        TEXT                 -- JSON of the arrival it becomes once whole and checked
    ) WITHOUT ROWID;
    """,
    """
    ALTER TABLE arrival ADD COLUMN decoded TEXT NOT NULL DEFAULT '';  -- content coding undone
    """,
    """
    ALTER TABLE part ADD COLUMN synced TEXT NOT NULL DEFAULT '';  -- bytes safe on the disk: 0-99
    ALTER TABLE part ADD COLUMN boot TEXT NOT NULL DEFAULT '';    -- the machine's start, then
    ALTER TABLE part ADD COLUMN promised TEXT NOT NULL DEFAULT '';  -- by its place: algorithm:hex
    CREATE INDEX arrival_by_path ON arrival (path);
    ALTER TABLE run ADD COLUMN note TEXT NOT NULL DEFAULT '';      -- the user's note
    ALTER TABLE run ADD COLUMN software TEXT NOT NULL DEFAULT '';  -- what did it, with its version
    """,
    """
    ALTER TABLE run ADD COLUMN timeline TEXT NOT NULL DEFAULT '';  -- JSON: see records/timeline.py
    CREATE INDEX result_by_address ON result (address);
    CREATE INDEX result_by_state ON result (run, state, received);
    CREATE INDEX result_in_trouble ON result (run, number) WHERE reason != '';
    """,
    """
    CREATE TABLE move (
        address TEXT PRIMARY KEY,          -- of a file that is being moved
        old     TEXT NOT NULL,             -- its path before
        new     TEXT NOT NULL              -- and after
    ) WITHOUT ROWID;
    """,
    """
    -- Of a file that does not lie at its path, what stands for it: 'twin PATH', the file that has
    -- its bytes; 'members', an archive's own; 'nothing', for one that was moved aside.
    ALTER TABLE arrival ADD COLUMN instead TEXT NOT NULL DEFAULT '';
    ALTER TABLE arrival ADD COLUMN archive TEXT NOT NULL DEFAULT '';  -- SHA-256 of what it was in
    CREATE INDEX arrival_by_bytes ON arrival (substr(sha256, 1, 16));
    CREATE INDEX arrival_unpacked ON arrival (run) WHERE archive != '';
    CREATE TABLE unpacking (
        address TEXT NOT NULL,             -- of the archive
        wish    TEXT NOT NULL,             -- how it was to be unpacked
        sha256  TEXT NOT NULL,             -- the archive's, when it was
        left_out INTEGER NOT NULL,         -- members that could not be taken
        PRIMARY KEY (address, wish)
    ) WITHOUT ROWID;
    CREATE TABLE unhandled (
        address TEXT PRIMARY KEY           -- of a file whose --on-arrival has not ended well
    ) WITHOUT ROWID;
    """,
    """
    ALTER TABLE arrival ADD COLUMN media_type TEXT NOT NULL DEFAULT '';  -- as its place named it
    CREATE TABLE made (
        path   TEXT PRIMARY KEY,           -- of a file that was made here of what arrived
        sha256 TEXT NOT NULL,
        size   INTEGER NOT NULL,           -- bytes
        source TEXT NOT NULL               -- the addresses it came from, separated by spaces
    ) WITHOUT ROWID;
    """,
    """
    ALTER TABLE arrival ADD COLUMN modified TEXT NOT NULL DEFAULT '';  -- at its place, ISO 8601
    ALTER TABLE result ADD COLUMN note TEXT NOT NULL DEFAULT '';  -- to know, though it is right
    """,
    """
    ALTER TABLE part ADD COLUMN digests TEXT NOT NULL DEFAULT '';  -- of bytes that must not change
    -- Values in addresses that may be secrets are hidden since this version.
    UPDATE run SET command = without_secrets(command);
    UPDATE arrival SET address = without_secrets(address),
        final_address = without_secrets(final_address);
    UPDATE result SET address = without_secrets(address);
    UPDATE OR REPLACE part SET address = without_secrets(address),
        final_address = without_secrets(final_address);
    UPDATE OR REPLACE move SET address = without_secrets(address);
    UPDATE OR REPLACE unpacking SET address = without_secrets(address);
    UPDATE OR REPLACE unhandled SET address = without_secrets(address);
    UPDATE made SET source = without_secrets(source);
    """,
    """
    -- States are codes; the words for them are the program's.
    UPDATE result SET state = 'here' WHERE state = 'already here';
    """,
    """
    ALTER TABLE run ADD COLUMN haul INTEGER REFERENCES run;  -- of the errand whose step it is
    CREATE TABLE step (
        run       INTEGER NOT NULL REFERENCES run,  -- of the haul that it followed
        number    INTEGER NOT NULL,        -- its place in the errand, from 1
        command   TEXT NOT NULL,           -- as it would be typed, without secrets
        started   TEXT NOT NULL,           -- ISO 8601, UTC
        ended     TEXT NOT NULL,
        exit_code INTEGER NOT NULL,
        counts    TEXT NOT NULL,           -- JSON: what it did, such as {"archives": 2}
        PRIMARY KEY (run, number)
    ) WITHOUT ROWID;
    """,
    """
    ALTER TABLE result ADD COLUMN worker TEXT NOT NULL DEFAULT '';  -- of a cluster, that had it
    ALTER TABLE arrival ADD COLUMN licence TEXT NOT NULL DEFAULT '';  -- as its catalogue says
    ALTER TABLE arrival ADD COLUMN citation TEXT NOT NULL DEFAULT '';  -- likewise
    """,
    """
    -- Addresses are told apart by keys made of all of them (see identity.py); what is shown of one
    -- is for people. Earlier versions kept only that. Where it lacks hidden values, the key is
    -- empty: whether two such addresses were the same cannot be found out any more.
    CREATE TABLE identity (salt TEXT NOT NULL);
    INSERT INTO identity VALUES (lower(hex(randomblob(16))));
    ALTER TABLE arrival ADD COLUMN key TEXT NOT NULL DEFAULT '';
    UPDATE arrival SET key = old_key(address, (SELECT salt FROM identity));
    DROP INDEX arrival_by_address;
    CREATE INDEX arrival_by_key ON arrival (key);
    ALTER TABLE result ADD COLUMN key TEXT NOT NULL DEFAULT '';
    UPDATE result SET key = old_key(address, (SELECT salt FROM identity));
    DROP INDEX result_by_address;
    CREATE INDEX result_by_key ON result (key);
    ALTER TABLE part RENAME TO old_part;
    CREATE TABLE part (
        key           TEXT PRIMARY KEY,
        address       TEXT NOT NULL,
        final_address TEXT NOT NULL,
        file          TEXT NOT NULL,
        length        INTEGER,
        entity_tag    TEXT,
        last_modified TEXT,
        date          TEXT,
        joining       TEXT NOT NULL,
        sealed        TEXT,
        synced        TEXT NOT NULL,
        boot          TEXT NOT NULL,
        promised      TEXT NOT NULL,
        digests       TEXT NOT NULL
    ) WITHOUT ROWID;
    INSERT INTO part SELECT coalesce(nullif(old_key(address, salt), ''), address), address,
        final_address, file, length, entity_tag, last_modified, date, joining, sealed, synced,
        boot, promised, digests
        FROM old_part, identity WHERE old_key(address, salt) != '' OR sealed IS NOT NULL;
    DROP TABLE old_part;
    ALTER TABLE move RENAME TO old_move;
    CREATE TABLE move (
        address TEXT NOT NULL,             -- of a file that is being moved
        old     TEXT NOT NULL,
        new     TEXT NOT NULL,
        file    TEXT PRIMARY KEY           -- its name on the way
    ) WITHOUT ROWID;
    INSERT INTO move SELECT address, old, new, fingerprint(address) FROM old_move;
    DROP TABLE old_move;
    ALTER TABLE unpacking RENAME TO old_unpacking;
    CREATE TABLE unpacking (
        key      TEXT NOT NULL,            -- of the archive
        wish     TEXT NOT NULL,
        sha256   TEXT NOT NULL,
        left_out INTEGER NOT NULL,
        PRIMARY KEY (key, wish)
    ) WITHOUT ROWID;
    INSERT INTO unpacking SELECT old_key(address, salt), wish, sha256, left_out
        FROM old_unpacking, identity WHERE old_key(address, salt) != '';
    DROP TABLE old_unpacking;
    ALTER TABLE unhandled RENAME TO old_unhandled;
    CREATE TABLE unhandled (
        key TEXT PRIMARY KEY               -- of a file whose --on-arrival has not ended well
    ) WITHOUT ROWID;
    INSERT INTO unhandled SELECT old_key(address, salt) FROM old_unhandled, identity
        WHERE old_key(address, salt) != '';
    DROP TABLE old_unhandled;
    CREATE INDEX arrival_by_twin ON arrival (instead) WHERE substr(instead, 1, 5) = 'twin ';
    """,
)
VERSION = len(_STEPS)


def bring_up_to_date(connection: sqlite3.Connection, path: Path) -> None:
    """Upgrade a ledger to the current schema; of several programs at once, the first does it.

    Raises:
        UnreadableLedger: it was written by a later version of the program.
        sqlite3.Error: it cannot be upgraded now.
    """
    version = version_of(connection)
    if version > VERSION:
        raise UnreadableLedger(
            str(path), f"was written by a later version (schema {version})", "upgrade willow-cart"
        )
    if version < VERSION:
        build(connection, VERSION)


def version_of(connection: sqlite3.Connection) -> int:
    """Return the schema version."""
    (version,) = connection.execute("PRAGMA user_version").fetchone()
    return int(version)


def build(connection: sqlite3.Connection, version: int) -> None:
    """Create the tables of a schema version, from an earlier one or from nothing.

    Raises:
        sqlite3.Error: it cannot be written now; nothing has changed.
    """
    functions = (
        ("without_secrets", 1, lambda text: without_secrets(str(text))),
        ("fingerprint", 1, lambda text: fingerprint(str(text))),
        ("old_key", 2, _old_key),
    )
    for name, count, function in functions:
        connection.create_function(name, count, function, deterministic=True)
    connection.execute("BEGIN IMMEDIATE")
    try:
        # Another program may have done it while this one waited.
        for number in range(version_of(connection) + 1, version + 1):
            for statement in _statements(_STEPS[number - 1]):
                connection.execute(statement)
            connection.execute(f"PRAGMA user_version = {number}")
    except BaseException:
        connection.execute("ROLLBACK")
        raise
    connection.execute("COMMIT")


def _old_key(address: str, salt: str) -> str:
    """Return the key for an address in an early ledger; empty if values of it were hidden."""
    return "" if lacks_secret(str(address)) else ledger_key(address_id(str(address)), salt)


def _statements(script: str) -> Iterator[str]:
    """Yield the statements of a script; `executescript` would end the transaction."""
    statement = ""
    for line in script.splitlines(keepends=True):
        statement += line
        if sqlite3.complete_statement(statement):
            yield statement
            statement = ""
