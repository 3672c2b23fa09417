-- A ledger as the first version of its schema had it.
BEGIN TRANSACTION;
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
INSERT INTO "arrival" VALUES(1,1,'http://127.0.0.1:1/levels/a.csv','http://127.0.0.1:1/levels/a.csv','levels/a.csv','2031-06-01T06:00:02+00:00',1320,'523115d58018bbf58bd3fdfc99e9b45c0fb227abc2c7de99fd4fd90b36e539e3',NULL,NULL,'','length only',1938060000000000000);
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
CREATE TABLE result (
        run      INTEGER NOT NULL REFERENCES run,
        number   INTEGER NOT NULL,         -- the file's place in the haul, from 1
        address  TEXT NOT NULL,
        path     TEXT NOT NULL,
        state    TEXT NOT NULL,
        arrival  INTEGER REFERENCES arrival,  -- what lies here now, if anything
        reason   TEXT NOT NULL,            -- why it failed or was refused, else empty
        received INTEGER NOT NULL,         -- bytes that came in this run
        resumed  INTEGER NOT NULL,         -- bytes that an earlier run or attempt had brought
        attempts INTEGER NOT NULL,
        seconds  REAL NOT NULL,
        PRIMARY KEY (run, number)
    ) WITHOUT ROWID;
INSERT INTO "result" VALUES(1,1,'http://127.0.0.1:1/levels/a.csv','levels/a.csv','arrived',1,'',1320,0,1,0.02);
INSERT INTO "result" VALUES(1,3,'http://127.0.0.1:1/sound.wav','sound.wav','already here',NULL,'',0,0,0,0.0);
INSERT INTO "result" VALUES(1,2,'http://127.0.0.1:1/dawn.wav','dawn.wav','failed',NULL,'the connection broke; haul again later',4096,0,5,1.5);
CREATE TABLE run (
        id         INTEGER PRIMARY KEY,
        command    TEXT NOT NULL,          -- as typed, without secrets
        started    TEXT NOT NULL,          -- ISO 8601, UTC
        ended      TEXT,                   -- NULL while under way, and for ever after a crash
        exit_code  INTEGER
    );
INSERT INTO "run" VALUES(1,'willow-cart haul list.txt --into x','2031-06-01T06:00:00+00:00','2031-06-01T06:00:03+00:00',1);
CREATE INDEX arrival_by_address ON arrival (address);
COMMIT;
PRAGMA user_version = 1;
