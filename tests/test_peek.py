"""Inspecting files: the facts of each format, the bytes fetched for them, and damaged files."""

from __future__ import annotations

import bz2
import gzip
import io
import json
import lzma
import os
import random
import struct
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, cast

import pytest

import willow_cart
from tests.support.media import recording
from tests.support.program import RunHere, run
from willow_cart.demo.places import Outbox
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import ConnectionLost
from willow_cart.peeking.peek import Peeked, peek
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.protocols.remote_file import RemoteFile

BASE = "http://h.example"
LEVELS = b"time,level_m,gauge\n" + b"".join(
    b"2031-05-%02dT%02d:%02d,1.%03d,mere\n" % (1 + n // 1440, n // 60 % 24, n % 60, n % 1000)
    for n in range(40_000)
)


def look(name: str, content: bytes, rows: int = 3) -> Peeked:
    return peek(FakeAccess({f"{BASE}/{name}": FakeFile(content)}), f"{BASE}/{name}", rows)


def parquet() -> bytes:
    import numpy as np
    import pyarrow as pa
    from pyarrow import parquet as written

    noise = np.random.default_rng(1)
    table = pa.table(
        {
            "level_m": noise.random(400_000),
            "gauge": ["mere", "reach"] * 200_000,
            "count": noise.integers(0, 1 << 40, 400_000),
        }
    )
    file = io.BytesIO()
    written.write_table(table, file, row_group_size=100_000)
    return file.getvalue()


def workbook() -> bytes:
    import openpyxl

    book = openpyxl.Workbook()
    assert book.active is not None
    book.active.title = "Cover"
    sheet = book.create_sheet("Counts")
    for row in [("hide", "count"), ("alder", 12), ("causeway", 3.5), ("reach", None)]:
        sheet.append(row)
    file = io.BytesIO()
    book.save(file)
    return file.getvalue()


def zipped() -> bytes:
    file = io.BytesIO()
    noise = random.Random(1)
    with zipfile.ZipFile(file, "w") as archive:
        for n in range(5):
            info = zipfile.ZipInfo(f"maps/sheet_{n}.png", (2031, 5, 1 + n, 6, 0, 0))
            archive.writestr(info, noise.randbytes(300_000))
    return file.getvalue()


def tarred(packing: str = "") -> bytes:
    file = io.BytesIO()
    mode = cast(Any, f"w:{packing}")
    with tarfile.open(fileobj=file, mode=mode) as archive:
        for n in range(30):
            info = tarfile.TarInfo(f"season/{n:02d}.csv")
            info.size, info.mtime = 10_000, 1_900_000_000
            archive.addfile(info, io.BytesIO(LEVELS[:10_000]))
    return file.getvalue()


def picture(form: str) -> bytes:
    from PIL import Image

    file = io.BytesIO()
    noise = random.Random(1).randbytes(640 * 480 * 3)
    Image.frombytes("RGB", (640, 480), noise).save(file, form)
    return file.getvalue()


def document() -> bytes:
    from pypdf import PdfWriter

    made = PdfWriter()
    for _ in range(12):
        made.add_blank_page(200, 200)
    made.add_metadata({"/Title": "Counting hides"})
    made.add_attachment("noise.bin", random.Random(1).randbytes(500_000))
    file = io.BytesIO()
    made.write(file)
    return file.getvalue()


def hdf5() -> bytes:
    import h5py
    import numpy as np

    file = io.BytesIO()
    with h5py.File(file, "w") as made:
        made.attrs["title"] = "Water levels"
        level = made.create_dataset("mere/level", data=np.zeros((200, 1000)))
        level.attrs["units"] = "m"
        made.create_dataset("time", data=np.arange(200, dtype="i4"))
    return file.getvalue()


def netcdf() -> bytes:
    """A classic file (CDF-1) with two dimensions, a title and two variables."""

    def text(value: str) -> bytes:
        raw = value.encode()
        return struct.pack(">i", len(raw)) + raw + bytes(-len(raw) % 4)

    def attribute(name: str, value: str) -> bytes:
        return text(name) + struct.pack(">i", 2) + text(value)

    head = b"CDF\x01" + struct.pack(">i", 7)
    head += struct.pack(">ii", 10, 2) + text("time") + struct.pack(">i", 0)
    head += text("gauge") + struct.pack(">i", 3)
    head += struct.pack(">ii", 12, 1) + attribute("title", "Water levels")
    head += struct.pack(">ii", 11, 2)
    head += text("level") + struct.pack(">iii", 2, 0, 1)
    head += struct.pack(">ii", 12, 1) + attribute("units", "m") + struct.pack(">iii", 6, 24, 400)
    head += text("time") + struct.pack(">ii", 1, 0) + struct.pack(">ii", 0, 0)
    head += struct.pack(">iii", 4, 4, 424)
    return head + bytes(200_000)


RECORDS = [{"hide": "alder", "count": n, "seen": None} for n in range(20_000)]

Make = Callable[[], bytes]

# The name, its content, the form this is reported, some facts, and the types of the columns.
FORMS: dict[str, tuple[Make, str, dict[str, object], list[tuple[str, str]]]] = {
    "levels.csv": (
        lambda: LEVELS, "table",
        {"format": "columns separated by commas, decimal point, UTF-8", "columns": 3},
        [("time", "time"), ("level_m", "number"), ("gauge", "text")],
    ),
    "odd.txt": (
        lambda: "Größe;Zahl\n1,5;3\n2,5;4\n".encode("cp1252"), "table",
        {"format": "columns separated by semicolons, decimal comma, Windows-1252", "rows": 2},
        [("Größe", "number"), ("Zahl", "integer")],
    ),
    "notes.txt": (
        lambda: b"Seen at dawn.\nNothing else.\n", "text", {"encoding": "UTF-8", "lines": 2},
        [("line", "")],
    ),
    "levels.csv.gz": (
        lambda: gzip.compress(LEVELS), "table", {"compressed by": "gzip", "columns": 3},
        [("time", "time"), ("level_m", "number"), ("gauge", "text")],
    ),
    "levels.csv.bz2": (
        lambda: bz2.compress(LEVELS[:9000]), "table", {"compressed by": "bzip2", "rows": 321},
        [("time", "time"), ("level_m", "number"), ("gauge", "text")],
    ),
    "notes.xz": (
        lambda: lzma.compress(b"dawn\n" * 9), "text", {"compressed by": "xz", "lines": 9},
        [("line", "")],
    ),
    "counts.json": (
        lambda: json.dumps({"title": "Counts", "year": 2031, "rows": RECORDS}).encode(), "JSON",
        {"title": "Counts", "year": "2031", "rows": "array", "...": "more may follow"},
        [("hide", "string"), ("count", "number"), ("seen", "null")],
    ),
    "few.json": (
        lambda: json.dumps(RECORDS[:7]).encode(), "JSON", {"shape": "an array", "records": 7},
        [("hide", "string"), ("count", "number"), ("seen", "null")],
    ),
    "counts.jsonl": (
        lambda: "\n".join(map(json.dumps, RECORDS)).encode(), "lines of JSON", {},
        [("hide", "string"), ("count", "number"), ("seen", "null")],
    ),
    "counts.parquet": (
        parquet, "Parquet table", {"columns": 3, "rows": 400_000, "row groups": 4},
        [("level_m", "double"), ("gauge", "string"), ("count", "int64")],
    ),
    "counts.xlsx": (
        workbook, "workbook", {"sheets": "Cover, Counts"}, [("hide", ""), ("count", "")],
    ),
    "maps.zip": (
        zipped, "zip archive", {"members": 5, "unpacked": "1.50 MB"},
        [("member", ""), ("size", "bytes"), ("modified", "time")],
    ),
    "season.tar": (
        tarred, "tar archive", {}, [("member", ""), ("size", "bytes"), ("modified", "time")],
    ),
    "season.tar.gz": (
        lambda: tarred("gz"), "tar archive", {"compressed by": "gzip"},
        [("member", ""), ("size", "bytes"), ("modified", "time")],
    ),
    "dawn.wav": (
        lambda: recording(16_000 * 90), "recording",
        {"duration": "1 min 30 s", "seconds": 90.0, "samples a second": 8000, "channels": 1}, [],
    ),
    "dawn.au": (
        lambda: struct.pack(">4s5I", b".snd", 24, 16000, 3, 8000, 1) + bytes(16000), "recording",
        {"format": "AU, 16-bit PCM", "seconds": 1.0}, [],
    ),
    "map.png": (
        lambda: picture("PNG"), "picture", {"format": "PNG", "width": 640, "height": 480}, [],
    ),
    "map.jpg": (
        lambda: picture("JPEG"), "picture", {"format": "JPEG", "width": 640, "height": 480}, [],
    ),
    "guide.pdf": (document, "PDF document", {"pages": 12, "title": "Counting hides"}, []),
    "levels.h5": (
        hdf5, "HDF5 or NetCDF-4 file", {"variables": 2, "title": "Water levels"},
        [("variable", ""), ("type", ""), ("dimensions", ""), ("unit", "")],
    ),
    "levels.nc": (
        netcdf, "NetCDF file", {"time": 7, "gauge": 3, "variables": 2, "title": "Water levels"},
        [("variable", ""), ("type", ""), ("dimensions", ""), ("unit", "")],
    ),
    "hides.html": (
        lambda: b"<!doctype html><title>Bird hides</title><p>Hides", "web page",
        {"title": "Bird hides"}, [],
    ),
    "odd.bin": (
        lambda: b"\x00\x01reed" * 9, "other file", {"as text": "..reed..reed..re"}, [],
    ),
    "empty.csv": (lambda: b"", "empty file", {}, []),
}  # fmt: skip

# Rows that show what reading them right means.
FIRST_ROWS: dict[str, list[str]] = {
    "levels.csv": ["2031-05-01T00:00", "1.000", "mere"],
    "levels.csv.gz": ["2031-05-01T00:00", "1.000", "mere"],
    "notes.txt": ["Seen at dawn."],
    "counts.json": ["alder", "0", "null"],
    "counts.jsonl": ["alder", "0", "null"],
    "counts.xlsx": ["alder", "12"],
    "maps.zip": ["maps/sheet_0.png", "300000", "2031-05-01 06:00:00"],
    "season.tar.gz": ["season/00.csv", "10000", "2030-03-17 17:46:40"],
    "levels.h5": ["mere/level", "float64", "200 x 1000", "m"],
    "levels.nc": ["level", "double", "7 x 3", "m"],
}


@pytest.mark.parametrize("name", FORMS)
def test_each_format_is_told_from_few_bytes(name: str) -> None:
    make, form, facts, columns = FORMS[name]
    content = make()
    found = look(name, content)
    assert (found.content.form, list(found.content.notes)) == (form, NOTES.get(name, []))
    assert {key: found.content.facts.get(key) for key in facts} == facts
    assert [(each.name, each.type) for each in found.content.columns] == columns
    assert found.size == len(content)
    # A dictionary of a column is read whole (Parquet, "Dictionary page").
    assert found.fetched <= min(len(content), 2_000_000 if name == "counts.parquet" else 300_000)
    assert len(found.content.rows) <= 3
    if name in FIRST_ROWS:
        assert found.content.rows[0] == FIRST_ROWS[name]


NOTES = {
    "hides.html": ["survey lists the files that it links to"],
    "season.tar": ["a tar archive has no list of its members; these are the first"],
}


def test_rows_are_estimated_closely() -> None:
    told = look("levels.csv", LEVELS).content.facts["rows (estimated)"]
    assert isinstance(told, int)
    assert abs(told - 40_000) < 400
    lines = "\n".join(map(json.dumps, RECORDS)).encode()
    told = look("c.jsonl", lines).content.facts["records (estimated)"]
    assert isinstance(told, int)
    assert abs(told - 20_000) < 1000


@pytest.mark.parametrize("name", [name for name in FORMS if name != "empty.csv"])
def test_damaged_files_are_told_and_never_an_error(name: str) -> None:
    """Cut off, zeroed in the middle, scrambled after their first bytes, or under other names."""
    content = FORMS[name][0]()
    noise = random.Random(name)
    third = len(content) // 3
    spoiled = [
        content[: third + 1],
        content[:third] + bytes(third) + content[2 * third :],
        content[:8] + noise.randbytes(len(content)),
        content[: len(content) - 200] + noise.randbytes(200),
    ]
    for _ in range(6):
        flipped = bytearray(content)
        for _ in range(40):
            flipped[noise.randrange(min(len(flipped), 4000))] = noise.randrange(256)
        spoiled.append(bytes(flipped))
    for each in spoiled:
        for called in (name, "odd.json", "odd.xlsx", "odd.mp3"):
            found = look(called, each)
            assert found.content.form
            assert all(found.content.notes), called
            assert found.fetched <= 4 << 20


@pytest.mark.parametrize("name", ["maps.zip", "counts.parquet", "guide.pdf"])
def test_a_server_without_ranges_is_told_and_not_read_to_the_end(
    name: str, tmp_path: Path, here: RunHere, place: StandIn
) -> None:
    place.exhibits[name] = Exhibit(FORMS[name][0](), ranges=False)
    done = here(tmp_path, "peek", f"{place.base}/{name}", "--json")
    assert (done.code, done.err) == (0, "")
    (told,) = done.json()
    assert told["notes"] == ["the server sends files only whole; haul it to see more"]
    assert told["form"] == "other file"
    assert told["bytes_fetched"] == 64 << 10


def test_what_a_file_needs_is_bounded() -> None:
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w") as archive:
        for n in range(120_000):
            archive.writestr(f"season/{n:06d}/{'x' * 60}", b"")
    told = look("many.zip", file.getvalue())
    assert told.content.notes == ["more than 4.19 MB of it would be needed; haul it"]
    assert told.fetched <= 4 << 20


def test_a_workbook_that_swells_is_not_opened() -> None:
    file = io.BytesIO(workbook())
    with zipfile.ZipFile(file, "a", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("xl/extra.xml", b" " * (257 << 20))
    told = look("bomb.xlsx", file.getvalue())
    assert told.content.form == "other file"
    assert told.content.notes[0].startswith("it unpacks to 270 MB")


def test_a_schema_is_told_where_rows_are_too_large() -> None:
    import pyarrow as pa
    from pyarrow import parquet as written

    noise = random.Random(1)
    blobs = pa.array([noise.randbytes(1_000_000) for _ in range(9)])
    file = io.BytesIO()
    written.write_table(pa.table({f"blob_{n}": blobs for n in range(3)}), file)
    content = look("blobs.parquet", file.getvalue()).content
    assert [each.name for each in content.columns] == ["blob_0", "blob_1", "blob_2"]
    assert content.notes == [
        "its first rows need more bytes than are fetched here; haul it to see them"
    ]


def test_a_file_that_changes_while_it_is_read_is_an_error() -> None:
    files = {f"{BASE}/a.zip": FakeFile(os.urandom(200_000))}
    access = FakeAccess(files)
    file = RemoteFile(access, f"{BASE}/a.zip", access.ask(f"{BASE}/a.zip"), 200_000)
    assert file.read(10) == files[f"{BASE}/a.zip"].content[:10]
    files[f"{BASE}/a.zip"].entity_tag = '"2"'
    with pytest.raises(ConnectionLost, match="has changed while it was read"):
        file.seek(150_000) and file.read(10)


def test_blocks_are_fetched_once_and_the_end_at_once() -> None:
    content = random.Random(1).randbytes(1_000_000)
    access = FakeAccess({f"{BASE}/a": FakeFile(content)})
    facts = access.ask(f"{BASE}/a")
    file = RemoteFile(
        access, f"{BASE}/a", facts, len(content), tail_bytes=100_000, beginning=content[:70_000]
    )
    places = random.Random(2)
    for _ in range(500):
        start = places.randrange(len(content))
        count = places.randrange(1, 60_000)
        file.seek(start)
        assert file.read(count) == content[start : start + count]
    assert file.fetched <= len(content) + (32 << 10)
    file.seek(0)
    assert file.read() == content
    asked = len(access.asked)
    file.seek(-5, io.SEEK_END)
    assert file.read() == content[-5:]
    assert len(access.asked) == asked
    again = RemoteFile(access, f"{BASE}/a", facts, len(content), tail_bytes=100_000)
    again.seek(-5, io.SEEK_END)
    again.read(5)
    again.seek(-90_000, io.SEEK_END)
    assert again.read() == content[-90_000:]
    assert len(access.asked) == asked + 1


def test_the_command_tells_several_files_and_what_is_not_there(
    tmp_path: Path, place: StandIn
) -> None:
    (tmp_path / "own.csv").write_bytes(b"hide,count\nalder,1\n")
    place.exhibits["levels.csv"] = Exhibit(LEVELS)
    done = run("peek", "own.csv", f"{place.base}/{{levels,none}}.csv", "--rows", "2", cwd=tmp_path)
    assert done.code == 1
    assert done.err == f"willow-cart: {place.base}/none.csv: 404 Not Found; check the address\n"
    assert done.out.splitlines()[1:6] == [
        "format: columns separated by commas, decimal point, UTF-8; columns: 2; rows: 1",
        "",
        "hide (text)   count (integer)",
        "alder                       1",
        "",
    ]
    assert done.last_line == f"65.5 kB of {len(LEVELS) / 1e6:.2f} MB fetched"
    assert len([each for each in place.requests if each.path == "/levels.csv"]) == 1


@pytest.mark.parametrize(
    ("word", "said"),
    [
        ("none.csv", "none.csv: no such file; check its name, or give an address"),
        (".", ".: is a folder; list it with survey"),
        ("http://127.0.0.1:1/a/", "http://127.0.0.1:1/a/: is a folder or a page; list it with"),
        ("--rows=-1", "--rows: -1 is not a whole number from 0 up"),
    ],
)
def test_slips_are_named(word: str, said: str, tmp_path: Path, here: RunHere) -> None:
    done = here(tmp_path, "peek", word, *(["x.csv"] if word.startswith("--") else []))
    assert done.code == 2
    assert said in done.err


def test_wide_tables_are_turned(tmp_path: Path, here: RunHere) -> None:
    names = [f"gauge_{n}" for n in range(12)]
    row = [str(n / 4) for n in range(12)]
    (tmp_path / "wide.csv").write_text(",".join(names) + "\n" + ",".join(row) + "\n")
    out = here(tmp_path, "peek", "wide.csv").out.splitlines()
    assert out[3].split() == ["column", "type", "row", "1"]
    assert out[5].split() == ["gauge_1", "number", "0.25"]


def test_ftp_servers_and_folders_of_this_machine_are_read_in_parts(
    tmp_path: Path, here: RunHere
) -> None:
    folder = tmp_path / "outbox"
    folder.mkdir()
    (folder / "maps.zip").write_bytes(FORMS["maps.zip"][0]())
    with Outbox(folder) as served:
        for place in (f"{served.base}/maps.zip", str(folder / "maps.zip")):
            done = here(tmp_path, "peek", place, "--json", "--rows", "2")
            assert (done.code, done.err) == (0, "")
            (told,) = done.json()
            assert told["facts"] == {"members": 5, "unpacked": "1.50 MB"}
            assert [row[0] for row in told["rows"]] == ["maps/sheet_0.png", "maps/sheet_1.png"]
            assert told["bytes_fetched"] < 200_000


def test_in_python_the_rows_are_a_frame(place: StandIn) -> None:
    import pandas as pd

    place.exhibits["levels.csv"] = Exhibit(LEVELS)
    told = willow_cart.peek(f"{place.base}/levels.csv", rows=4)
    assert told.form == "table"
    assert told.facts["columns"] == 3
    frame = told.to_frame()
    assert [*frame] == ["time", "level_m", "gauge"]
    assert frame["time"][3] == pd.Timestamp("2031-05-01T00:03")
    assert frame["level_m"].sum() == pytest.approx(4.006)
    assert "65.5 kB of" in repr(told)
    assert "<td" in told._repr_html_()
    with pytest.raises(willow_cart.WillowCartError, match="404 Not Found"):
        willow_cart.peek(f"{place.base}/none.csv")


def test_lines_before_a_table_are_noticed_and_skipped(tmp_path: Path) -> None:
    rows = "".join(f"2031-05-{day:02d};1,{day}\n" for day in range(1, 20))
    (tmp_path / "odd.csv").write_text(f"Gauges of the trust\nexported in June\nday;level\n{rows}")
    guessed = run("peek", "odd.csv", cwd=tmp_path)
    assert "the first 2 lines do not look like part of the table; --skip-lines 2" in guessed.out
    skipped = run("peek", "odd.csv", "--skip-lines", "2", "--json", cwd=tmp_path).json()
    assert skipped[0]["columns"] == [
        {"name": "day", "type": "date"}, {"name": "level", "type": "number"},
    ]  # fmt: skip
    assert (skipped[0]["facts"]["rows"], skipped[0]["notes"]) == (19, [])
