"""Files after scripts get the names that their servers give them, and are known again by them."""

from __future__ import annotations

import io
import re
import zipfile
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest

from tests.support.program import files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn


def put_up(place: StandIn, path: str, content: bytes, field: str, value: str) -> None:
    """A file with a field in its answer, GET and HEAD alike."""

    def answer(handler: Any) -> None:
        handler.send_response(200)
        handler.send_header("Content-Length", str(len(content)))
        handler.send_header("Content-Type", "application/octet-stream")
        handler.send_header("ETag", f'"{hash(content)}"')
        handler.send_header(field, value)
        handler.end_headers()
        if handler.command != "HEAD":
            handler.wfile.write(content)

    place.exhibits[path] = Exhibit(content, script=answer)


DISPOSITION = "Content-Disposition"
NAMED = {
    "get/1": (DISPOSITION, "attachment; filename*=UTF-8''" + quote("Pegelstände 2031.csv"),
              "get/Pegelstände 2031.csv"),
    "get/2": (DISPOSITION, 'attachment; filename="levels.csv"', "get/levels.csv"),
    "give.py": (DISPOSITION, "attachment; filename=levels_1.csv", "levels_1.csv"),
    "deliver.php": (DISPOSITION, "inline; filename=map.tif", "map.tif"),
    "variants/levels": ("Content-Location", "levels.csv", "variants/levels.csv"),
    "up/3": (DISPOSITION, 'attachment; filename="../../etc/passwd.csv"', "up/passwd.csv"),
    "up/4": (DISPOSITION, 'attachment; filename="..\\\\..\\\\start.csv"', "up/start.csv"),
    "keeps/own.csv": (DISPOSITION, "attachment; filename=other.csv", "keeps/own.csv"),
    "bare/5": (DISPOSITION, "attachment; filename=bare", "bare/5"),
}  # fmt: skip


@pytest.fixture
def sources(tmp_path: Path, place: StandIn) -> Path:
    for path, (field, value, _) in NAMED.items():
        put_up(place, path, path.encode() * 9, field, value)
    listed = tmp_path / "list.txt"
    listed.write_text("".join(f"{place.base}/{path}\n" for path in NAMED))
    return listed


@pytest.mark.parametrize("lanes", ["1", "8"])
def test_the_answer_that_brings_a_file_names_it(tmp_path: Path, sources: Path, lanes: str) -> None:
    haul: list[str | Path] = ["haul", sources, "--into", "x", "--lanes", lanes]
    done = run(*haul, cwd=tmp_path)
    assert done.code == 0, done.err
    expected = {named: path.encode() * 9 for path, (_, _, named) in NAMED.items()}
    assert files_in(tmp_path / "x") == expected
    again = run(*haul, cwd=tmp_path)
    assert again.code == 0, again.err
    assert again.err == "", "nothing is said of what stays in place"
    assert files_in(tmp_path / "x") == expected
    rows = run("receipt", "x", "--json", cwd=tmp_path).json()["files"]
    assert {row["path"] for row in rows} == set(expected)
    assert run("audit", "x", cwd=tmp_path).code == 0


def test_files_of_one_name_are_kept_apart_by_their_queries(tmp_path: Path, place: StandIn) -> None:
    for number in range(4):
        put_up(place, f"get/{number}", b"%d" % number, DISPOSITION, "attachment; filename=a.csv")
    place.exhibits["get/a.csv"] = Exhibit(b"its own")
    addresses = [f"{place.base}/get/{number}" for number in range(4)]
    listed = tmp_path / "list.txt"
    listed.write_text("\n".join([*addresses, f"{place.base}/get/a.csv"]))
    done = run("haul", listed, "--into", "x", cwd=tmp_path)
    assert done.code == 0, done.err
    found = files_in(tmp_path / "x")
    assert sorted(found.values()) == [b"0", b"1", b"2", b"3", b"its own"]
    assert found["get/a.csv"] == b"its own", "a name that is planned is left to its file"
    assert all(re.fullmatch(r"get/a( \(.+\))?\.csv", path) for path in found)
    again = run("haul", listed, "--into", "x", cwd=tmp_path)
    assert files_in(tmp_path / "x") == found, again.err


def test_names_are_asked_for_where_they_decide(tmp_path: Path, sources: Path) -> None:
    survey: list[str | Path] = ["survey", sources, "--json", "--ext", "csv"]
    without = run(*survey, cwd=tmp_path)
    assert [each["path"] for each in without.json()["offers"]] == ["keeps/own.csv"]
    assert "8 addresses left out by name say no kind of file; --ask-sizes asks" in without.err
    asked = run(*survey, "--ask-sizes", cwd=tmp_path)
    assert {each["path"] for each in asked.json()["offers"]} == {
        named for _, _, named in NAMED.values() if named.endswith(".csv")
    }
    hauled = run("haul", sources, "--ext", "csv", "--ask-sizes", "--into", "x", cwd=tmp_path)
    assert hauled.code == 0, hauled.err
    assert set(files_in(tmp_path / "x")) == {
        named for _, _, named in NAMED.values() if named.endswith(".csv")
    }
    nothing = run("survey", sources, "--ext", "tif", cwd=tmp_path)
    assert nothing.code != 0
    assert "--ask-sizes asks for them" in nothing.err


def test_archives_that_are_named_by_their_server_are_unpacked(
    tmp_path: Path, place: StandIn
) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("inside.csv", "a,b\n")
    put_up(place, "get/7", packed.getvalue(), DISPOSITION, "attachment; filename=year.zip")
    (tmp_path / "list.txt").write_text(f"{place.base}/get/7\n")
    done = run("haul", "list.txt", "--into", "x", "--unpack", "*.zip", cwd=tmp_path)
    assert done.code == 0, done.err
    assert "get/year/inside.csv" in files_in(tmp_path / "x") or "get/inside.csv" in files_in(
        tmp_path / "x"
    )
