"""Files with the same bytes: told, kept, linked or left out, and found again by later hauls."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from tests.support.program import Outcome, files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn

SAME = b"reedbed,1.204\n" * 50


@pytest.fixture
def twins(place: StandIn) -> StandIn:
    place.exhibits |= {
        "a/level.csv": Exhibit(SAME),
        "b/level_copy.csv": Exhibit(SAME),
        "b/other.csv": Exhibit(b"other\n"),
        "empty_1.csv": Exhibit(b""),
        "empty_2.csv": Exhibit(b""),
    }
    return place


def haul(place: StandIn, how: str, tmp_path: Path, *more: str) -> Outcome:
    addresses = [f"{place.base}/{path}" for path in place.exhibits]
    # On one lane, so that it is always the same one that comes first.
    return run("haul", *addresses, "--into", "data", "--keep-folders", "--lanes", "1",
               "--twins", how, *more,
               cwd=tmp_path)  # fmt: skip


def test_they_are_kept_and_told(twins: StandIn, tmp_path: Path) -> None:
    done = haul(twins, "keep", tmp_path)
    assert done.code == 0
    assert (
        "1 file has the same content as another file here; such as b/level_copy.csv and"
        " a/level.csv; use --twins link or skip to keep one copy\n"
    ) in done.err
    assert len(files_in(tmp_path / "data")) == 5
    assert "same bytes" not in haul(twins, "keep", tmp_path).err


@pytest.mark.posix
def test_links_share_a_file_until_one_is_renewed(twins: StandIn, tmp_path: Path) -> None:
    assert haul(twins, "link", tmp_path).code == 0
    one, other = tmp_path / "data/a/level.csv", tmp_path / "data/b/level_copy.csv"
    assert os.path.samefile(one, other)
    assert "all unchanged" in haul(twins, "link", tmp_path).out
    assert run("audit", "data", cwd=tmp_path).code == 0
    assert "all already here" in haul(twins, "link", tmp_path, "--if-present", "replace").out
    assert os.path.samefile(one, other)
    twins.exhibits["a/level.csv"] = Exhibit(b"new\n")
    assert "1 arrived, 4 unchanged" in haul(twins, "link", tmp_path).out
    assert (one.read_bytes(), other.read_bytes()) == (b"new\n", SAME)
    assert list((tmp_path / "data/.willow/partial").iterdir()) == []


def test_what_was_left_out_is_not_missed_until_it_differs(twins: StandIn, tmp_path: Path) -> None:
    first = haul(twins, "skip", tmp_path)
    assert "4 arrived, 1 already here" in first.out
    assert "left out, such as a copy of a/level.csv" in first.err
    data = tmp_path / "data"
    assert "b/level_copy.csv" not in files_in(data)
    assert "all unchanged" in haul(twins, "skip", tmp_path).out
    assert run("audit", "data", cwd=tmp_path).code == 0
    sums = run("receipt", "data", "--manifest", "sha256sums", cwd=tmp_path).out
    assert len(sums.splitlines()) == 4
    # The one that stands for it goes: it comes again, under its own name.
    (data / "a/level.csv").unlink()
    twins.exhibits.pop("a/level.csv")
    assert "1 arrived" in haul(twins, "skip", tmp_path).out
    assert files_in(data)["b/level_copy.csv"] == SAME


def test_an_old_version_never_passes_for_the_new_one(twins: StandIn, tmp_path: Path) -> None:
    assert haul(twins, "skip", tmp_path).code == 0
    twins.exhibits["b/other.csv"] = Exhibit(SAME)
    assert "1 arrived" in haul(twins, "skip", tmp_path).out
    assert files_in(tmp_path / "data")["b/other.csv"] == SAME
