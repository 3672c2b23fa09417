"""What was a table's cell is a cell of the whole, whatever the format and the order of runs."""

from __future__ import annotations

import csv
import io
import itertools
import random
import shutil
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.support.program import RunHere, run
from tests.test_combining import read_back
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.tables.column_types import EMPTY_WORDS

FORMS = ["whole.sqlite", "whole.duckdb", "whole.parquet", "whole.csv", "whole.jsonl"]

# Cells that one library or another reads as something that they are not.
ODD = (
    "123456789012345678 123456789012345679 9007199254740993 9007199254740992 1E5 2E3 12E1 1e400 "
    "1.5e400 1.5e-400 1.5e3 -0 +5 5. .5 1.10 0.1234567890123456 0.12345678901234567 "
    "0.1234567890123456789 00123 1_000 0x1F inf -inf Infinity NaN NA null 2031-05-01 2031-02-30 "
    "2031-05-01T06:00 2031-05-01T06:00:00.123456789 2031-05-01T06:00+02:00 true =1+1 trace 1,5"
).split()
CELLS = st.one_of(
    st.sampled_from(ODD),
    st.integers(-(10**19), 10**19).map(str),
    st.floats(allow_nan=False, allow_infinity=False).map(repr),
    st.decimals(-(10**6), 10**6, places=3).map(str),
    st.text("ab\u00e4\u4e00;\t'\"\n\r,", min_size=1, max_size=4).filter(str.strip),
)


def is_same(cell: str, stored: object) -> bool:
    """Whether a stored value is what a cell says: the same text, the same number or moment."""
    if stored is None:
        return cell.strip() in {"", *EMPTY_WORDS}
    if isinstance(stored, int | float):
        try:
            return Decimal(repr(stored)) == Decimal(cell.strip())
        except InvalidOperation:
            return False
    if isinstance(stored, str):
        return stored == cell or stored == cell.strip()
    return str(stored).replace(" ", "T")[:10] == cell.strip()[:10]


def write(path: Path, header: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    text = io.StringIO(newline="")
    csv.writer(text, quoting=csv.QUOTE_ALL).writerows([header, *rows])
    path.parent.mkdir(exist_ok=True)
    path.write_text(text.getvalue(), "utf-8", newline="")


def value_of(row: dict[str, Any], name: str) -> object:
    return row.get(next((key for key in row if key.casefold() == name.casefold()), name))


@pytest.mark.parametrize("form", FORMS)
@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    columns=st.lists(st.lists(CELLS, min_size=1, max_size=3), min_size=2, max_size=4),
    order=st.permutations(range(4)),
    at_once=st.booleans(),
)
def test_a_cell_comes_out_as_it_went_in(
    tmp_path: Path, here: RunHere, form: str, columns: list[list[str]], order: list[int],
    at_once: bool,
) -> None:  # fmt: skip
    shutil.rmtree(tmp_path / "t", ignore_errors=True)
    (tmp_path / form).unlink(missing_ok=True)
    expected: dict[tuple[str, int], str] = {}
    order = [number for number in order if number < len(columns)]
    for turn, number in enumerate(order):
        # The header differs in case from file to file: that makes no second column.
        header = ["Value", "n"] if number % 2 else ["value", "N"]
        rows = [[cell, str(place)] for place, cell in enumerate(columns[number])]
        write(tmp_path / "t" / f"{number}.csv", header, rows)
        expected |= {(f"{number}.csv", place): row[0] for place, row in enumerate(rows)}
        if not at_once or turn == len(order) - 1:
            done = here(tmp_path, "combine", "t", "--to", form, "--mixed")
            assert done.code == 0, done.err
    found = read_back(tmp_path / form)
    assert len(found) == len(expected)
    for row in found:
        cell = expected[row["source_file"], int(str(value_of(row, "n")))]
        # A line end by itself is read as one of the usual kind.
        assert is_same(cell.replace("\r\n", "\n"), _plain(value_of(row, "value"))), (cell, row)
    names = [name.casefold() for row in found for name in row]
    assert len({*names}) == len({name for row in found for name in row})


def _plain(stored: object) -> object:
    return stored.replace("\r\n", "\n") if isinstance(stored, str) else stored


@pytest.mark.parametrize("form", FORMS)
def test_the_order_of_runs_makes_no_difference(tmp_path: Path, here: RunHere, form: str) -> None:
    tables = {
        "a": "0.1234567890123456 1.50 +5 NA", "b": "trace", "c": "123456789012345678 7",
        "d": "2031-05-01 2031-05-02T06:00",
    }  # fmt: skip
    for names in itertools.permutations(tables, 3):
        stored = []
        for splits in ([3], [1, 1, 1], [2, 1]):
            shutil.rmtree(tmp_path / "t", ignore_errors=True)
            (tmp_path / form).unlink(missing_ok=True)
            waiting = list(names)
            for count in splits:
                for name in (waiting.pop(0) for _ in range(count)):
                    write(
                        tmp_path / "t" / f"{name}.csv", ["v"], [[c] for c in tables[name].split()]
                    )
                assert here(tmp_path, "combine", "t", "--to", form).code == 0
            found = read_back(tmp_path / form)
            stored.append(sorted((row["source_file"], repr(row.get("v"))) for row in found))
        assert stored[0] == stored[1] == stored[2], names


@pytest.mark.parametrize("form", FORMS)
def test_rows_belong_to_content_and_not_to_a_path(
    tmp_path: Path, place: StandIn, form: str
) -> None:
    place.exhibits |= {
        "x/a.csv": Exhibit(b"n,v\n1,2\n"), "y/a.csv": Exhibit(b"n,v\n3,4\n"),
        "y/same.csv": Exhibit(b"n,v\n1,2\n"),
    }  # fmt: skip
    addresses = [f"{place.base}/{path}" for path in place.exhibits]
    run("haul", *addresses, "--into", "d", "--layout", "tree", cwd=tmp_path)
    run("combine", "d", "--to", form, cwd=tmp_path)
    assert run("refile", "d", "--layout", "host", cwd=tmp_path).code == 0
    done = run("combine", "d", "--to", form, cwd=tmp_path)
    found = read_back(tmp_path / form)
    if form.endswith((".sqlite", ".duckdb")):
        assert sorted(int(str(row["n"])) for row in found) == [1, 1, 3]
        assert all((tmp_path / "d" / row["source_file"]).exists() for row in found)
    else:
        assert "which is not here any more, were kept" in done.err


def test_what_somebody_has_edited_is_read_or_refused(tmp_path: Path, here: RunHere) -> None:
    write(tmp_path / "t" / "a.csv", ["n", "v"], [["1", "2"]])
    for form, edits in {
        "whole.csv": {
            "": 0, "\r\n": 0, ",,\r\n": 0, "a.csv,x\r\n": 2, "a.csv,x,1,by hand\r\n": 2,
            "x\r\n": 2, '"open': 2,
        },
        "whole.jsonl": {
            "": 0, "\n": 0, "{}\n": 2, "[1]\n": 2, "{\n": 2, "[" * 20_000: 2, '{"n": 1}': 2,
        },
    }.items():  # fmt: skip
        for edit, code in edits.items():
            for mark in (b"", b"\xef\xbb\xbf"):
                for old in tmp_path.glob("t/b*.csv"):
                    old.unlink()
                assert here(tmp_path, "combine", "t", "--to", form, "--overwrite").code == 0
                whole = tmp_path / form
                whole.write_bytes(mark + whole.read_bytes() + edit.encode())
                before = whole.read_bytes()
                write(tmp_path / "t" / "b.csv", ["n", "v", "w"], [["5", "6", "7"]])
                done = here(tmp_path, "combine", "t", "--to", form)
                assert done.code == code, (edit, done.err)
                if code:
                    assert (whole.read_bytes(), done.err.count("\n")) == (before, 1), done.err
                    assert "line" in done.err
                else:
                    rows = {row["source_file"]: row for row in read_back(whole)}
                    assert (str(rows["b.csv"]["w"]), str(rows["a.csv"]["v"])) == ("7", "2")
    unended = (tmp_path / "whole.jsonl").read_text().rstrip("\n")
    (tmp_path / "whole.jsonl").write_text('{"source_file": "gone.csv", "n": 1}')
    assert here(tmp_path, "combine", "t", "--to", "whole.jsonl").code == 0, unended
    assert len(read_back(tmp_path / "whole.jsonl")) == 3


def test_a_part_of_a_name_never_replaces_a_column(tmp_path: Path, here: RunHere) -> None:
    write(tmp_path / "t" / "lev_2031.csv", ["Year", "v"], [["1999", "1"]])
    pattern = r"lev_(?P<year>\d{4})"
    done = here(tmp_path, "combine", "t", "--to", "x.csv", "--name-parts", pattern)
    assert (done.code, (tmp_path / "x.csv").exists()) == (2, False)
    assert "year: lev_2031.csv has a column of that name already" in done.err


def test_several_folders_are_combined_by_their_own_files(tmp_path: Path, here: RunHere) -> None:
    for folder, value in (("a", "1"), ("b", "2")):
        write(tmp_path / folder / "x.csv", ["v"], [[value]])
    (tmp_path / "a/a").mkdir()
    write(tmp_path / "a/a/x.csv", ["v"], [["3"]])
    assert here(tmp_path, "combine", "a", "b", "--to", "x.sqlite").code == 0
    found = {row["source_file"]: row["v"] for row in read_back(tmp_path / "x.sqlite")}
    assert found == {"a/a/x.csv": 3, "a/x.csv": 1, "b/x.csv": 2}


def test_a_table_of_any_name_leaves_the_notes_alone(tmp_path: Path, here: RunHere) -> None:
    write(tmp_path / "t" / "x.csv", ["v"], [["1"]])
    for _ in range(2):
        assert here(tmp_path, "combine", "t", "--to", "combined_files.sqlite").code == 0
    done = here(tmp_path, "combine", "t", "--to", "y.sqlite", "--table", "_willow_combined")
    assert (done.code, "holds the notes of combine" in done.err) == (2, True)
    # The notes of an earlier version are taken over.
    with closing(sqlite3.connect(tmp_path / "old.sqlite")) as base:
        base.execute("CREATE TABLE combined_files (table_name TEXT, source_file TEXT, sha256 TEXT,"
                     " how TEXT, rows INTEGER, PRIMARY KEY (table_name, source_file))")  # fmt: skip
    assert here(tmp_path, "combine", "t", "--to", "old.sqlite").code == 0
    with closing(sqlite3.connect(tmp_path / "old.sqlite")) as base:
        tables = {name for (name,) in base.execute("SELECT name FROM sqlite_master")}
    assert "combined_files" not in tables


def test_many_numbers_of_seventeen_digits_stay_what_they_are(tmp_path: Path, here: RunHere) -> None:
    chance = random.Random(1)
    cells = [repr(chance.uniform(-1e3, 1e3)) for _ in range(5000)]
    write(tmp_path / "t" / "x.csv", ["v"], [[cell] for cell in cells])
    assert here(tmp_path, "combine", "t", "--to", "x.sqlite").code == 0
    assert [repr(row["v"]) for row in read_back(tmp_path / "x.sqlite")] == cells
