"""Files with the same bytes: told, kept, linked or left out, and found again by later hauls."""

from __future__ import annotations

import io
import os
import zipfile
from pathlib import Path

import pytest

from tests.support.program import Outcome, files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn

SAME = b"reedbed,1.204\n" * 50


def zipped(members: dict[str, bytes]) -> bytes:
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w") as archive:
        for name, content in members.items():
            archive.writestr(zipfile.ZipInfo(name), content)
    return file.getvalue()


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


@pytest.mark.parametrize("how", ["keep", "link", "skip"])
@pytest.mark.parametrize(
    "change", ["renewed", "renewed with it", "refiled", "unpacked", "moved aside"]
)
def test_nothing_is_replaced_while_something_else_stands_on_it(
    place: StandIn, tmp_path: Path, how: str, change: str
) -> None:
    """Whatever happens to one of two equal files, the other is here and vouched for."""
    archive = zipped({"in.csv": SAME, "more.csv": b"m\n"})
    place.exhibits |= {
        "a/x.csv": Exhibit(SAME), "b/y.csv": Exhibit(SAME), "c/z.zip": Exhibit(archive),
        "d/z.zip": Exhibit(archive),
    }  # fmt: skip
    assert haul(place, how, tmp_path).code == 0
    expected = {"b/y.csv": SAME, "d/z.zip": archive}
    data = tmp_path / "data"
    if change == "renewed":
        place.exhibits["a/x.csv"] = Exhibit(b"new,1\n")
        place.exhibits["c/z.zip"] = Exhibit(newer := zipped({"in.csv": b"new\n"}))
        gone = [f"{place.base}/a/x.csv", f"{place.base}/c/z.zip"]
        assert run("haul", *gone, "--into", "data", "--keep-folders", cwd=tmp_path).code == 0
        expected |= {"a/x.csv": b"new,1\n", "c/z.zip": newer}
    elif change == "renewed with it":
        for name in ("a/x.csv", "b/y.csv"):
            place.exhibits[name] = Exhibit(name.encode())
            expected[name] = name.encode()
        done = haul(place, how, tmp_path)
        assert "an existing file was moved" not in done.err
    elif change == "refiled":
        assert run("refile", "data", "--layout", "flat", cwd=tmp_path).code == 0
        place.exhibits["a/x.csv"] = Exhibit(b"new,1\n")
        assert run("haul", f"{place.base}/a/x.csv", "--into", "data", cwd=tmp_path).code == 0
        expected = {"b/y.csv": SAME}
    elif change == "unpacked":
        words = ["--unpack", "*.zip", "--archives", "remove"]
        assert haul(place, how, tmp_path, *words).code == 0
        expected = {"b/y.csv": SAME}
    else:
        corrupt = bytearray(SAME)
        corrupt[3] ^= 1
        stamp = (data / "a/x.csv").stat()
        (data / "a/x.csv").write_bytes(corrupt)
        os.utime(data / "a/x.csv", ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
        # A disk without links keeps two files where a link was asked for.
        linked = how == "link" and (data / "a/x.csv").samefile(data / "b/y.csv")
        if linked or how == "skip":
            told = run("audit", "data", cwd=tmp_path).out
            assert "b/y.csv" in told
        assert run("audit", "data", "--repair", cwd=tmp_path).code == 0
    assert run("audit", "data", cwd=tmp_path).code == 0
    bytes_here = [*files_in(data).values()]
    assert all(content in bytes_here for content in expected.values())
    listed = run("audit", "data", "--json", cwd=tmp_path).out
    assert "b/y.csv" in listed or change == "refiled"
