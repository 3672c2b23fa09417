"""Audits: what has changed or gone since it was hauled, and what places have by now."""

from __future__ import annotations

import hashlib
import os
import shutil
from pathlib import Path

import pytest

from tests.support.program import Outcome, files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn

FILES = {f"levels/{n}.csv": f"level {n}\n".encode() * 500 for n in range(12)}


@pytest.fixture
def desk(tmp_path: Path, place: StandIn) -> Path:
    """A folder with a destination in it that was hauled into."""
    place.exhibits |= {path: Exhibit(content) for path, content in FILES.items()}
    source = f"{place.base}/levels/{{0..11}}.csv"
    assert run("haul", source, "--into", "data", "--keep-folders", cwd=tmp_path).code == 0
    return tmp_path


def found(outcome: Outcome) -> dict[str, str]:
    return {each["path"]: each["finding"] for each in outcome.json()}


def rot(path: Path) -> None:
    """Change a byte and nothing else, as a disk does."""
    status = path.stat()
    content = bytearray(path.read_bytes())
    content[700] ^= 4
    path.write_bytes(content)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


def test_what_is_as_it_was_is_said_to_be(desk: Path) -> None:
    outcome = run("audit", "data", cwd=desk)
    assert outcome.code == 0
    assert outcome.out == "12 files, 49.0 kB: all unchanged\n"
    shutil.copytree(desk / "data", desk / "copy", copy_function=shutil.copyfile)
    assert run("audit", "copy", "--quick", cwd=desk).code == 0, "a copy has other dates alone"


def test_flipped_bits_lost_and_strange_files_are_told(desk: Path) -> None:
    levels = desk / "data" / "levels"
    rot(levels / "1.csv")
    (levels / "2.csv").write_bytes(b"short")
    (levels / "3.csv").unlink()
    (levels / "4.csv").unlink()
    (levels / "4.csv").mkdir()
    (desk / "data" / "mine.txt").write_text("notes")
    outcome = run("audit", "data", "--json", cwd=desk)
    assert outcome.code == 4
    told = {path: finding for path, finding in found(outcome).items() if finding != "unchanged"}
    assert told == {
        "levels/1.csv": "changed", "levels/2.csv": "changed", "levels/3.csv": "missing",
        "levels/4.csv": "changed", "mine.txt": "unknown",
    }  # fmt: skip
    why = {each["path"]: each["why"] for each in outcome.json()}
    assert why["levels/2.csv"] == "size is 5 bytes, was 4,000"
    assert why["levels/1.csv"].startswith("sha256 is ")
    quick = found(run("audit", "data", "--quick", "--json", cwd=desk))
    assert quick["levels/1.csv"] == "unchanged", "what has its size and date is believed"
    assert quick["levels/2.csv"] == "changed"
    table = run("audit", "data", cwd=desk).out
    assert "13 files" in table
    assert "8 unchanged, 3 changed, 1 missing, 1 unknown" in table
    (levels / "4.csv").rmdir()
    for name in ("1", "2"):
        (levels / f"{name}.csv").write_bytes(FILES[f"levels/{name}.csv"])
    assert run("audit", "data", cwd=desk).code == 1, "missing alone"


def test_repair_brings_back_just_what_is_harmed_and_keeps_what_lay_there(
    desk: Path, place: StandIn
) -> None:
    levels = desk / "data" / "levels"
    rot(levels / "1.csv")
    rotten = (levels / "1.csv").read_bytes()
    (levels / "2.csv").write_bytes(b"mine")
    (levels / "3.csv").unlink()
    place.requests.clear()
    outcome = run("audit", "data", "--repair", cwd=desk)
    assert outcome.code == 0, outcome.err
    assert "3 files: all arrived" in outcome.out
    assert sorted(each.path for each in place.requests) == [
        "/levels/1.csv", "/levels/2.csv", "/levels/3.csv",
    ]  # fmt: skip
    assert files_in(desk / "data") == FILES
    aside = (desk / "data" / ".willow" / "aside").rglob("*.csv")
    assert {path.name: path.read_bytes() for path in aside} == {"1.csv": rotten, "2.csv": b"mine"}
    assert run("audit", "data", cwd=desk).code == 0


def test_lists_are_held_against_any_folder(desk: Path) -> None:
    shutil.copytree(desk / "data" / "levels", desk / "bare" / "levels")
    digests = {path: hashlib.md5(content).hexdigest() for path, content in FILES.items()}
    sums = "".join(f"{digest}  {path}\n" for path, digest in digests.items())
    (desk / "MD5SUMS").write_text(sums + f"{'0' * 32}  levels/99.csv\n")
    rot(desk / "bare" / "levels" / "5.csv")
    outcome = run("audit", "bare", "--checksums", "MD5SUMS", "--json", cwd=desk)
    assert outcome.code == 4
    told = {path: finding for path, finding in found(outcome).items() if finding != "unchanged"}
    assert told == {"levels/5.csv": "changed", "levels/99.csv": "missing"}
    both = run("audit", "data", "--checksums", "MD5SUMS", "--json", cwd=desk)
    assert found(both)["levels/99.csv"] == "missing"
    assert run("audit", "bare", cwd=desk).err == (
        "willow-cart: bare: contains no ledger; nothing was hauled into it; name a haul's folder\n"
    )
    assert run("audit", "nowhere", cwd=desk).code == 2


def test_places_are_asked_what_they_have_by_now_and_nothing_is_fetched(
    desk: Path, place: StandIn
) -> None:
    place.exhibits["levels/1.csv"] = Exhibit(b"newer")
    place.exhibits["levels/2.csv"] = Exhibit(FILES["levels/2.csv"][::-1])
    del place.exhibits["levels/3.csv"]
    place.exhibits["levels/4.csv"] = Exhibit(
        script=lambda handler: handler.refuse(302, {"Location": "/moved.csv"})
    )
    place.exhibits["levels/6.csv"] = Exhibit(script=lambda handler: handler.refuse(403))
    place.exhibits["moved.csv"] = Exhibit(FILES["levels/4.csv"])
    place.requests.clear()
    outcome = run("audit", "data", "--upstream", "--json", cwd=desk)
    assert outcome.code == 1
    told = {path: finding for path, finding in found(outcome).items() if finding != "unchanged"}
    assert told == {
        "levels/1.csv": "newer", "levels/2.csv": "newer", "levels/3.csv": "gone",
        "levels/4.csv": "moved", "levels/6.csv": "not stated",
    }  # fmt: skip
    fetched = [each for each in place.requests if each.method == "GET" and each.status == 200]
    assert fetched == []
    why = {each["path"]: each["why"] for each in outcome.json()}
    assert why["levels/1.csv"] == "size changed from 4,000 to 5 bytes"
    assert why["levels/4.csv"] == f"it has moved to {place.base}/moved.csv"


def test_a_repair_files_where_things_were_and_speaks_of_nothing_else(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["a/b.csv"] = Exhibit(b"1")
    haul = ("haul", f"{place.base}/a/b.csv", "--into", "data", "--file-as", "x/{stem}-1.{ext}")
    assert run(*haul, cwd=tmp_path).code == 0
    (tmp_path / "data" / "x" / "b-1.csv").unlink()
    repaired = run("audit", "data", "--repair", cwd=tmp_path)
    assert (repaired.code, repaired.err) == (0, "")
    assert files_in(tmp_path / "data") == {"x/b-1.csv": b"1"}
