"""The ledger's tables: one step for each schema version.

A step and its version number are committed together, so that a crash leaves the old schema or the
new one and nothing between. Steps are only ever added at the end.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path

from willow_cart.errors import UnreadableLedger
from willow_cart.redaction import without_secrets

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
)
VERSION = len(_STEPS)


def bring_up_to_date(connection: sqlite3.Connection, path: Path) -> None:
    """Upgrade a ledger to the current schema.

    Raises:
        UnreadableLedger: it was written by a later version of the program.
    """
    (version,) = connection.execute("PRAGMA user_version").fetchone()
    if version > VERSION:
        raise UnreadableLedger(
            str(path), f"was written by a later version (schema {version})", "upgrade willow-cart"
        )
    build(connection, VERSION, since=version)


def build(connection: sqlite3.Connection, version: int, *, since: int = 0) -> None:
    """Create the tables of a schema version, from an earlier one or from nothing."""
    connection.create_function(
        "without_secrets", 1, lambda text: without_secrets(str(text)), deterministic=True
    )
    for number, step in enumerate(_STEPS[since:version], since + 1):
        connection.executescript(f"BEGIN; {step} PRAGMA user_version = {number}; COMMIT;")
