"""Tables put together: how each is written is found out, and nothing is lost or there twice."""

from __future__ import annotations

import csv
import gzip
import io
import itertools
import json
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import duckdb
import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import Outcome, run
from willow_cart.demo import harrowmere
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import BadOption
from willow_cart.tables.column_types import TableColumn, convert
from willow_cart.tables.combined import Type
from willow_cart.tables.dialect import Dialect, dialect_of
from willow_cart.tables.ordinary_text import NotOrdinary, Quotes, read_ordinary
from willow_cart.tables.output import rows_of
from willow_cart.tables.outputs import output_for
from willow_cart.tables.table_files import Reading, TableFile
from willow_cart.tables.table_rows import read_rows

MAY = {
    path.rpartition("/")[2]: content
    for path, content in harrowmere.make_outbox().items()
    if "level_203105" in path
}


@pytest.fixture
def levels(tmp_path: Path) -> Path:
    (tmp_path / "levels").mkdir()
    for name, content in MAY.items():
        (tmp_path / "levels" / name).write_bytes(content)
    return tmp_path


def combine(cwd: Path, *arguments: str) -> Outcome:
    return run("combine", *arguments, cwd=cwd)


def ask(base: Path, statement: str) -> list[Any]:
    with sqlite3.connect(base) as opened:
        return opened.execute(statement).fetchall()


def read_back(path: Path) -> list[dict[str, Any]]:
    """The rows of a file in any of the forms, empty cells as None."""
    match path.suffix:
        case ".sqlite":
            with sqlite3.connect(path) as opened:
                opened.row_factory = sqlite3.Row
                return [dict(row) for row in opened.execute(f"SELECT * FROM {path.stem}")]
        case ".duckdb":
            with duckdb.connect(path, read_only=True) as opened:
                rows: list[dict[str, Any]]
                rows = opened.sql(f"SELECT * FROM {path.stem}").to_arrow_table().to_pylist()
                return rows
        case ".parquet":
            rows = pq.read_table(path).to_pylist()
            return rows
        case ".jsonl":
            return [json.loads(line) for line in path.read_text().splitlines()]
        case _:
            with path.open(newline="") as text:
                return [{k: v or None for k, v in row.items()} for row in csv.DictReader(text)]


def test_a_month_of_levels_is_one_table_with_counts_to_check_by_hand(levels: Path) -> None:
    parts = ["--name-parts", r"level_(?P<year>\d{4})(?P<month>\d\d)"]
    done = combine(levels, "levels", "--to", "all.sqlite", "--table", "level", *parts)
    assert (done.code, done.err) == (0, "")
    assert done.out.endswith("31 tables, 4,464 rows; written to all.sqlite\n")  # 31 x 24 x 6
    shell = shutil.which("sqlite3")
    assert shell, "its own shell reads it"
    question = (
        "PRAGMA integrity_check; SELECT count(*), count(DISTINCT source_file), min(time),"
        " max(time), typeof(reedbed), year, month FROM level"
    )
    answer = subprocess.run(
        [shell, levels / "all.sqlite", question], capture_output=True, text=True, check=True
    )
    assert answer.stdout == "ok\n4464|31|2031-05-01T00:00|2031-05-31T23:50|real|2031|05\n"
    wanted = sum(float(line.split(b",")[2]) for day in MAY.values() for line in day.split()[1:])
    assert ask(levels / "all.sqlite", "SELECT sum(reedbed) FROM level") == [
        (pytest.approx(wanted),)
    ]
    assert "reedbed        number    4,464" in done.out
    again = combine(levels, "levels", "--to", "all.sqlite", "--table", "level", *parts)
    assert again.out == "31 tables, nothing new; 4,464 rows in all.sqlite\n"
    # A day that has changed replaces its rows, and no others.
    day = levels / "levels" / "level_20310507.csv"
    day.write_bytes(b"\n".join(day.read_bytes().split(b"\n")[:3]) + b"\n")
    third = combine(levels, "levels", "--to", "all.sqlite", "--table", "level", *parts)
    assert "1 table, 2 rows; 30 tables unchanged; 4,320 rows kept" in third.out
    assert ask(levels / "all.sqlite", "SELECT count(*) FROM level") == [(4322,)]


@pytest.mark.parametrize("form", ["sqlite", "duckdb", "parquet", "csv", "jsonl"])
def test_next_month_joins_the_last_in_every_form(levels: Path, form: str) -> None:
    first = combine(levels, "levels", "--keep", "*0[1-3].csv", "--to", f"t.{form}")
    assert first.out.endswith(f"3 tables, 432 rows; written to t.{form}\n")
    new = levels / "levels" / "level_20310603.csv"
    new.write_text("time,reedbed,remark\n2031-06-03T00:00,dry,\n2031-06-03T00:10,1.5,calm\n")
    second = combine(levels, "levels", "--keep", "*03.csv", "--to", f"t.{form}")
    assert second.code == 0
    rows = read_back(levels / f"t.{form}")
    assert len(rows) == 434
    by_file = {name: [row for row in rows if row["source_file"] == name]
               for name in {row["source_file"] for row in rows}}  # fmt: skip
    assert {name: len(those) for name, those in by_file.items()} == {
        "level_20310501.csv": 144, "level_20310502.csv": 144, "level_20310503.csv": 144,
        "level_20310603.csv": 2,
    }  # fmt: skip
    june = by_file["level_20310603.csv"]
    assert [row.get("remark") for row in june] == [None, "calm"]
    assert [row["reedbed"] for row in june] == ["dry", "1.5"]
    assert june[0].get("north-sluice") is None
    said = second.err
    assert "level_20310603.csv: lacks mere-outlet, north-sluice and has remark besides" in said
    if form in ("sqlite", "duckdb", "parquet"):
        assert f"t.{form}: reedbed was number before, and is text from now on" in said
    anew = combine(levels, "levels", "--keep", "*0501.csv", "--to", f"t.{form}", "--start-over")
    assert anew.code == 0
    assert len(read_back(levels / f"t.{form}")) == 144


def test_every_way_to_write_a_table_is_found_out(tmp_path: Path, place: StandIn) -> None:
    rows = [["Tag", "Höhe", "Anzahl"], ["2031-05-01", "1,25", "3"], ["2031-05-02", "1,5", ""]]
    texts = {
        "semicolons.csv": "\n".join(map(";".join, rows)).encode("cp1252"),
        "tabs.tsv": "\n".join("\t".join(row).replace(",", ".") for row in rows).encode(),
        "marked.csv": "\r\n".join(map(";".join, rows)).encode("utf-8-sig"),
        "wide.csv": "\n".join(map(";".join, rows)).encode("utf-16"),
        "quoted.csv": "\n".join(
            ",".join(f'"{cell}"'.replace(",", ".") for cell in row) for row in rows
        ).encode(),
        "packed.csv.gz": gzip.compress("\n".join("|".join(row) for row in rows).encode()),
    }
    place.exhibits |= {f"x/{name}": Exhibit(content) for name, content in texts.items()}
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.append(["Tag", "Höhe", "Anzahl"])
    sheet.append(["2031-05-01", 1.25, 3])
    sheet.append(["2031-05-02", 1.5, None])
    book.create_sheet("Notes").append(["remark"])
    book.save(tmp_path / "book.xlsx")
    place.exhibits["x/book.xlsx"] = Exhibit((tmp_path / "book.xlsx").read_bytes())
    haul = run("haul", *(f"{place.base}/{path}" for path in place.exhibits), "--into", "data",
               cwd=tmp_path)  # fmt: skip
    assert haul.code == 0
    done = combine(tmp_path, "data", "--to", "t.sqlite")
    assert (done.code, done.err) == (0, "")
    assert ask(tmp_path / "t.sqlite", "SELECT DISTINCT Tag, Höhe, Anzahl FROM t ORDER BY 1") == [
        ("2031-05-01", 1.25, 3), ("2031-05-02", 1.5, None),
    ]  # fmt: skip
    assert ask(tmp_path / "t.sqlite", "SELECT count(*) FROM t") == [(14,)]
    for line in (
        "1 table: columns separated by semicolons, decimal comma, Windows-1252",
        "1 table: columns separated by tabs, decimal point, UTF-8",
        "1 table: columns separated by |, decimal comma, UTF-8",
        "1 table: columns separated by semicolons, decimal comma, UTF-16",
        "1 table: workbook",
    ):
        assert line in done.out
    notes = combine(tmp_path, "data", "--to", "n.csv", "--ext", "xlsx", "--sheet", "N*")
    assert notes.code == 0
    assert read_back(tmp_path / "n.csv") == []
    # Only what a cart's addresses have brought.
    load = run("load", f"{place.base}/x/tabs.tsv", "--cart", "c.csv", cwd=tmp_path)
    assert load.code == 0
    some = combine(tmp_path, "data", "--cart", "c.csv", "--to", "c.jsonl")
    assert some.out.endswith("1 table, 2 rows; written to c.jsonl\n")


def test_what_differs_or_cannot_be_read_is_told_with_the_file(tmp_path: Path) -> None:
    data = tmp_path / "data"
    data.mkdir()
    for number in range(3):
        (data / f"fine_{number}.csv").write_text(f"# logger\nday,teal\n2031-05-0{number + 1},4\n")
    (data / "other.csv").write_text("# logger\nday,Teal,snipe\n2031-05-04,5,6\n")
    (data / "lost.csv").write_text("# logger\nday,tea1\n2031-05-05,07\n")
    (data / "ragged.csv").write_text("# logger\nday,teal\n2031-05-06,8\n2031-05-07,8,9\n")
    (data / "empty.csv").write_text("")
    (data / "open.csv").write_text('# logger\nday,teal\n"2031-05-09,7\n2031-05-10,8\n')
    (data / "zeros.csv").write_bytes(b"# logger\nday,teal\n\0\0\0")
    (data / "short.csv").write_text("# logger\nday,teal\n2031-05-08\n\n")
    done = combine(tmp_path, "data", "--to", "t.sqlite", "--skip-lines", "1")
    assert done.code == 1
    advice = "fix it, or use --skip-lines if lines come before the header"
    unpack = "decompress it first if it is compressed"
    assert done.err.splitlines() == [
        "willow-cart: empty.csv: is empty; leave it out with --drop",
        "willow-cart: open.csv: cannot be read: unexpected end of data; check the file",
        f"willow-cart: ragged.csv: line 4 has 3 cells, and its header has 2; {advice}",
        f"willow-cart: zeros.csv: contains bytes that are not text; {unpack}",
        "willow-cart: lost.csv: lacks teal and has tea1 besides",
        "willow-cart: other.csv: has snipe besides",
        "willow-cart: short.csv: 1 row shorter than the header; filled with empty cells",
    ]
    assert "6 tables, 6 rows; written" in done.out
    assert ask(
        tmp_path / "t.sqlite", "SELECT teal, tea1 FROM t WHERE source_file = 'lost.csv'"
    ) == [(None, "07")]
    for form in ("sqlite", "csv"):
        none = combine(tmp_path, "data/zeros.csv", "data/open.csv", "--to", f"none.{form}")
        assert (none.code, none.err.count("\n")) == (1, 2)
        assert none.out == "0 tables, 0 rows; nothing was written\n"
        assert not (tmp_path / f"none.{form}").exists()
    strict = combine(tmp_path, "data", "--to", "s.sqlite", "--skip-lines", "1", "--strict")
    assert strict.code == 2
    assert "lost.csv: lacks teal and has tea1 besides: and 1 table more differ" in strict.err
    assert not (tmp_path / "s.sqlite").exists()
    columns = combine(tmp_path, "data", "--to", "c.csv", "--skip-lines", "1", "--keep", "fine*",
                      "--columns", "teal")  # fmt: skip
    assert (tmp_path / "c.csv").read_text().splitlines()[:2] == [
        "source_file,teal", "fine_0.csv,4"
    ], columns.err  # fmt: skip
    unknown = combine(tmp_path, "data", "--to", "c.csv", "--skip-lines", "1", "--columns", "day,x")
    assert (unknown.code, "--columns x: not a column of the tables; there are" in unknown.err) == (
        2, True
    )  # fmt: skip


def test_what_is_not_ours_is_never_written_over(levels: Path) -> None:
    mine = {"t.csv": b"a,b\n1,2\n", "t.jsonl": b'{"a": 1}\n', "t.parquet": b"PAR?",
            "t.sqlite": b"no database, but long enough to look at" * 99,
            "t.duckdb": b"no database either, however long it is" * 99}  # fmt: skip
    for name, content in mine.items():
        (levels / name).write_bytes(content)
        refused = combine(levels, "levels", "--to", name)
        assert (refused.code, refused.err.count("\n")) == (2, 1), refused.err
        assert (levels / name).read_bytes() == content
    with sqlite3.connect(levels / "own.sqlite") as base:
        base.execute("CREATE TABLE levels (time TEXT)")
    refused = combine(levels, "levels", "--to", "own.sqlite", "--table", "levels")
    assert "has no column source_file, so it was not written by combine" in refused.err
    beside = combine(levels, "levels", "--to", "own.sqlite", "--table", "all days", "--first", "1")
    assert beside.code == 0
    assert ask(levels / "own.sqlite", 'SELECT count(*) FROM "all days"') == [(144,)]
    with duckdb.connect(levels / "own.duckdb") as base:
        base.execute("CREATE TABLE levels (time TEXT)").fetchall()
        busy = combine(levels, "levels", "--to", "own.duckdb")
        assert "own.duckdb: is in use by another program; close it there" in busy.err
    refused = combine(levels, "levels", "--to", "own.duckdb", "--table", "levels")
    assert "has no column source_file, so it was not written by combine" in refused.err
    beside = combine(levels, "levels", "--to", "own.duckdb", "--first", "1")
    assert beside.code == 0
    assert len(read_back(levels / "own.duckdb")) == 144
    kept = {*mine, "own.sqlite", "own.duckdb", "levels"}
    assert {path.name for path in levels.iterdir()} == kept


def test_looking_first_writes_nothing(levels: Path) -> None:
    shown = combine(levels, "levels", "--keep", "*01.csv", "--preview")
    assert shown.code == 0
    assert shown.out.endswith("1 table, 144 rows; nothing was written\n")
    assert "2031-05-01T00:00" in shown.out
    assert [path.name for path in levels.iterdir()] == ["levels"]
    for wrong, why in (
        (["levels"], "--to: is missing; name a file, or look first with --preview"),
        (["levels", "--to", "x.doc"], "--to x.doc: unknown file type; use .sqlite"),
        (["levels", "--to", "x.csv", "--table", "t"], "--table: is for databases"),
        (["none", "--to", "x.csv"], "none: cannot be read: no such file"),
    ):
        refused = combine(levels, *wrong)
        assert (refused.code, why in refused.err) == (2, True), refused.err
    assert combine(levels, "levels", "--keep", "*.xls", "--to", "x.csv").code == 3


_CELLS = [
    "", "1", "-7", "007", "1.5", ".5", "1e3", "NA", "dry", " 3 ", "12345678901234567890",
    "2031-05-01", "2031-05-01T06:00Z", "2031-13-01",
]  # fmt: skip


@given(st.lists(st.lists(st.sampled_from(_CELLS), min_size=1, max_size=6), max_size=5))
def test_a_type_holds_every_cell_of_its_column(files: list[list[str]]) -> None:
    columns = []
    for cells in files:
        column = TableColumn()
        column.look_at(pa.array(cells))
        columns.append(column)
    type_ = Type.EMPTY
    for column in columns:
        type_ = type_.together(column.type)
    for cells in files:
        for cell, value in zip(
            cells, convert(pa.array(cells), type_, ".").to_pylist(), strict=True
        ):
            if type_ is Type.INTEGER or type_ is Type.REAL:
                assert value is None or float(cell) == value
                assert not cell.strip().startswith("00")
            elif type_ is Type.TEXT:
                assert value == (cell or None)
    every = TableColumn()
    every.look_at(pa.array([cell for cells in files for cell in cells], pa.string()))
    assert every.type is type_


@given(
    st.lists(st.lists(st.text(st.sampled_from("ab 1.\"'é"), max_size=4), min_size=3, max_size=3),
             min_size=2, max_size=6),
    st.sampled_from([",", ";", "\t", "|"]),
)  # fmt: skip
def test_the_delimiter_is_found_whatever_is_quoted(rows: list[list[str]], delimiter: str) -> None:
    text = io.StringIO()
    csv.writer(text, delimiter=delimiter).writerows([["first", "second", "third"], *rows])
    assert dialect_of(text.getvalue().encode()).delimiter == delimiter


def _table(content: bytes) -> TableFile:
    return TableFile(lambda: io.BytesIO(content), "t.csv", "t.csv", "")


def _read(parts: Iterator[Reading | pa.RecordBatch]) -> tuple[list[str], list[tuple[Any, ...]]]:
    reading = next(parts)
    assert isinstance(reading, Reading)
    rows: list[tuple[Any, ...]] = []
    for batch in parts:
        assert isinstance(batch, pa.RecordBatch)
        rows += rows_of(batch)
    return reading.header, rows


@given(st.text(st.sampled_from('ab1 é,"\n\r'), max_size=30), st.integers(0, 2))
def test_the_library_reads_a_table_as_the_reader_of_rows_does_or_not_at_all(
    text: str, skip: int
) -> None:
    for encoding in ("utf-8", "utf-8-sig", "utf-16", "cp1252"):
        table, dialect = _table(text.encode(encoding)), Dialect(encoding)
        try:
            read = _read(read_ordinary(table, skip, dialect))
        except NotOrdinary:
            continue
        assert read == _read(read_rows(table, skip, dialect))


@given(
    st.lists(st.lists(st.text(st.sampled_from('ab1 é,"\n\r'), min_size=1, max_size=5), min_size=2,
                      max_size=2), min_size=1, max_size=6),
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL, csv.QUOTE_NONNUMERIC]),
    st.data(),
)  # fmt: skip
def test_what_a_program_writes_is_an_ordinary_table(
    rows: list[list[str]], quoting: Any, data: st.DataObject
) -> None:
    text = io.StringIO(newline="")
    csv.writer(text, quoting=quoting).writerows([["first", "second"], *rows])
    content = text.getvalue().encode()
    header, read = _read(read_ordinary(_table(content), 0, Dialect()))
    assert (header, read) == (["first", "second"], [*map(tuple, rows)])
    # Wherever a block ends, the quotes are understood.
    cuts = sorted(data.draw(st.lists(st.integers(0, len(content)), max_size=4)))
    quotes = Quotes(",")
    for begin, end in itertools.pairwise([0, *cuts, len(content)]):
        if begin < end:
            quotes.check(content[begin:end])
    quotes.check(b"")


def test_days_that_do_not_exist_and_parts_of_a_microsecond_are_text(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text(
        "day,leap,moment,zoned,level,count\n"
        "2031-02-28,2028-02-29,2031-05-01T06:00:00.123456789,2031-05-01 06:00+02:00,+1.5,+7\n"
        "2031-02-30,2000-02-29,2031-05-01,2031-05-01T06:00:00Z,.5,-0\n"
    )
    done = combine(tmp_path, "a.csv", "--to", "t.parquet")
    assert done.code == 0, done.err
    first, second = read_back(tmp_path / "t.parquet")
    assert (first["day"], second["day"]) == ("2031-02-28", "2031-02-30")
    assert first["leap"] == datetime(2028, 2, 29)  # noqa: DTZ001  # the file tells no zone
    assert (first["moment"], second["moment"]) == ("2031-05-01T06:00:00.123456789", "2031-05-01")
    assert first["zoned"] == datetime(2031, 5, 1, 4, tzinfo=UTC)
    assert [(row["level"], row["count"]) for row in (first, second)] == [(1.5, 7), (0.5, 0)]


def test_without_the_library_of_duckdb_the_error_says_how_to_get_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(sys.modules, "duckdb", None)
    with pytest.raises(BadOption, match=r"pip install 'willow-cart\[duckdb\]'"):
        output_for(tmp_path / "t.duckdb")
    assert not (tmp_path / "t.duckdb").exists()


def test_texts_that_are_plainly_tables_are_taken_and_others_are_not(tmp_path: Path) -> None:
    data = tmp_path / "data"
    data.mkdir()
    for number in (1, 2):
        (data / f"logger_{number}.txt").write_text(f"time\tlevel\n2031-05-0{number}\t1.5\n")
    (data / "README.txt").write_text("Levels of the mere, by day.\nAsk the warden, or the clerk.\n"
                                     "There is no more to say.\n")  # fmt: skip
    (data / "list.txt").write_text("https://h.example/a.csv\nhttps://h.example/b.csv\n")
    done = combine(tmp_path, "data", "--to", "t.csv")
    assert (done.code, done.err) == (0, "")
    assert [row["source_file"] for row in read_back(tmp_path / "t.csv")] == [
        "logger_1.txt", "logger_2.txt"
    ]  # fmt: skip


@pytest.mark.parametrize("rows_before", [1, 30_000])
def test_one_odd_cell_is_told_with_file_row_and_cell_and_refused_if_strict(
    tmp_path: Path, rows_before: int
) -> None:
    rows = "".join(f"{number % 7}.5\n" for number in range(rows_before))
    (tmp_path / "levels.csv").write_text(f"level\n{rows}2.5\n1.5O\n3.5\n")
    done = combine(tmp_path, "levels.csv", "--to", "t.csv")
    odd = rows_before + 2
    told = f"levels.csv: level holds '1.5O' in row {odd:,}, so the whole column is text, not number"
    assert (done.code, done.err) == (0, f"willow-cart: {told}\n")
    strict = combine(tmp_path, "levels.csv", "--to", "s.csv", "--strict")
    assert (strict.code, told in strict.err) == (2, True)
    assert not (tmp_path / "s.csv").exists()
    words = combine(tmp_path, "levels.csv", "--to", "w.csv", "--preview")
    assert words.code == 0


def test_the_encoding_of_tables_can_be_named(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_bytes("Höhe;Ort\n1,5;Żuraw\n".encode("cp1250"))
    done = combine(tmp_path, "a.csv", "--to", "t.jsonl", "--encoding", "windows-1250")
    assert (done.code, read_back(tmp_path / "t.jsonl")) == (
        0, [{"source_file": "a.csv", "Höhe": 1.5, "Ort": "Żuraw"}]
    )  # fmt: skip
    wrong = combine(tmp_path, "a.csv", "--to", "t.jsonl", "--encoding", "rot13")
    assert (wrong.code, "--encoding rot13: is not a text encoding" in wrong.err) == (2, True)


def test_dates_and_numbers_of_other_countries_are_read_if_asked_to(tmp_path: Path) -> None:
    (tmp_path / "comma.csv").write_text(
        'day,level,said\n01/02/2031,"1,234",1/2/2031\n9/12/2031,"-2,500.5",no\n'
    )
    (tmp_path / "point.csv").write_text(
        "day;level;said\n01.02.2031 06:30;1.234,5;x\n13.02.2031;7;1.234\n"
    )
    (tmp_path / "blank.csv").write_text(
        "day;level;said\n1-2-2031;1 234 567;x\n02-02-2031;1\u202f000,5;y\n"
    )
    expected = {
        "comma": [("2031-02-01", 1234.0, "1/2/2031"), ("2031-12-09", -2500.5, "no")],
        "point": [("2031-02-01 06:30", 1234.5, "x"), ("2031-02-13", 7.0, "1.234")],
        "blank": [("2031-02-01", 1234567.0, "x"), ("2031-02-02", 1000.5, "y")],
    }
    for name, rows in expected.items():
        mark = {"blank": "space"}.get(name, name)
        done = combine(
            tmp_path, f"{name}.csv", "--to", f"{name}.sqlite", "--day-first", "--thousands", mark
        )
        assert done.code == 0, done.err
        assert ask(tmp_path / f"{name}.sqlite", f"SELECT day, level, said FROM {name}") == rows
    # Without a word about it they are texts, and nothing is guessed.
    assert combine(tmp_path, "comma.csv", "--to", "plain.sqlite").code == 0
    plain = ask(tmp_path / "plain.sqlite", "SELECT day, level FROM plain")
    assert plain[0] == ("01/02/2031", "1,234")


def test_a_table_of_another_kind_is_refused_unless_it_is_wanted(tmp_path: Path) -> None:
    for number in range(3):
        (tmp_path / f"level_{number}.csv").write_text(f"day,level,gauge\n{number},2,mere\n")
    (tmp_path / "level_3.csv").write_text("day,level\n3,2\n")
    (tmp_path / "stale.csv").write_text("error\nbusy\n")
    refused = combine(tmp_path, ".", "--to", "all.parquet")
    assert (refused.code, (tmp_path / "all.parquet").exists()) == (2, False)
    assert refused.err == (
        "willow-cart: stale.csv: has 0 of the 3 columns of the other tables; leave it out with"
        " --drop, or give --mixed to take it\n"
    )
    taken = combine(tmp_path, ".", "--to", "all.parquet", "--mixed")
    assert (taken.code, "5 tables, 5 rows" in taken.out) == (0, True)
    assert combine(tmp_path, ".", "--to", "few.parquet", "--drop", "stale*").code == 0
