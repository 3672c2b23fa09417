"""Unpacking: archives of every sort, what they do to harm, and what the ledger knows of it."""

from __future__ import annotations

import bz2
import contextlib
import gzip
import io
import lzma
import os
import shutil
import stat
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest
import pyzipper
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import files_in, run
from willow_cart.archives.extract import ExtractedMember, empty, without_top
from willow_cart.archives.reader import Bounds
from willow_cart.choosing import Choosing
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.destination import Destination, FileTree
from willow_cart.errors import BadOption, NotUnpacked
from willow_cart.hauling.run import haul_offers
from willow_cart.hauling.unpacking import unpack
from willow_cart.ledger.ledger import Ledger
from willow_cart.model import Offer
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer.policy import HaulPolicy, Unpacking

FILES = {"data/counts.csv": b"day,teal\n1,12\n", "data/notes/read me.txt": b"As published.\n"}


def zipped(files: dict[str, bytes], packing: int = zipfile.ZIP_DEFLATED) -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", packing) as archive:
        for name, content in files.items():
            archive.writestr(zipfile.ZipInfo(name, (2031, 5, 3, 12, 0, 0)), content, packing)
    return packed.getvalue()


def tarred(files: dict[str, bytes], *more: tarfile.TarInfo) -> bytes:
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w") as archive:
        for name, content in files.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime = len(content), 1_935_576_000
            archive.addfile(info, io.BytesIO(content))
        for info in more:
            archive.addfile(info)
    return packed.getvalue()


def other(name: str, sort: bytes, target: str = "") -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    info.type, info.linkname = sort, target
    return info


SORTS: dict[str, bytes] = {
    "a.zip": zipped(FILES),
    "b.zip": zipped(FILES, zipfile.ZIP_BZIP2),
    "c.zip": zipped(FILES, zipfile.ZIP_LZMA),
    "d.tar": tarred(FILES),
    "e.tar.gz": gzip.compress(tarred(FILES)),
    "f.tgz": gzip.compress(tarred(FILES), 1),
    "g.tar.bz2": bz2.compress(tarred(FILES)),
    "h.tar.xz": lzma.compress(tarred(FILES)),
    "i.tar.zst": zstandard.compress(tarred(FILES)),
}
SINGLES: dict[str, bytes] = {
    "j.csv.gz": gzip.compress(b"one") + gzip.compress(b" two"),
    "k.csv.bz2": bz2.compress(b"one two"),
    "l.csv.xz": lzma.compress(b"one two"),
    "m.csv.zst": zstandard.compress(b"one") + zstandard.compress(b" two"),
}


def test_every_sort_is_unpacked_on_arrival_and_known(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"x/{name}": Exhibit(data) for name, data in (SORTS | SINGLES).items()}
    haul = [
        "haul",
        *(f"{place.base}/{path}" for path in place.exhibits),
        "--into",
        "data",
        "--keep-folders",
    ]
    done = run(*haul, "--unpack", "*", cwd=tmp_path)
    assert (done.code, done.err) == (0, "")
    assert done.out.endswith("13 archives unpacked: 22 files\n")
    lies = files_in(tmp_path / "data")
    for name in SORTS:
        folder = f"x/{name.partition('.')[0]}"
        assert {path: lies[f"{folder}/{path}"] for path in FILES} == FILES
    assert {lies[f"x/{name.rpartition('.')[0]}"] for name in SINGLES} == {b"one two"}
    stamp = os.stat(tmp_path / "data/x/a/data/counts.csv").st_mtime
    assert stamp == os.stat(tmp_path / "data/x/d/data/counts.csv").st_mtime
    assert run("audit", "data", cwd=tmp_path).code == 0
    again = run(*haul, "--unpack", "*", cwd=tmp_path)
    assert again.out.endswith("13 archives unpacked before\n")
    story = run("receipt", "data", "--of", "x/a/data/counts.csv", cwd=tmp_path)
    assert f"{place.base}/x/a.zip#inside=data/counts.csv" in story.out


HOSTILE: dict[str, tuple[bytes, str]] = {
    "up": (zipped({"../../out.txt": b"x", **FILES}), "its path leads outside"),
    "up_tar": (tarred({"a/../../out.txt": b"x", **FILES}), "its path leads outside"),
    "rooted": (tarred({"/tmp/out.txt": b"x", **FILES}), "its path leads outside"),
    "drive": (zipped({"C:\\out.txt": b"x", **FILES}), "its path leads outside"),
    "strokes": (zipped({"..\\..\\out.txt": b"x", **FILES}), "its path leads outside"),
    "zero": (zipped({"outXx.txt": b"x", **FILES}).replace(b"outX", b"out\0"), "a zero byte"),
    "link": (tarred(FILES, other("out", tarfile.SYMTYPE, "/etc")), "is a link"),
    "again": (tarred(FILES, other("out", tarfile.LNKTYPE, "/etc/passwd")), "it leads to"),
    "device": (tarred(FILES, other("out", tarfile.CHRTYPE)), "it is a device or a pipe"),
    "pipe": (tarred(FILES, other("out", tarfile.FIFOTYPE)), "it is a device or a pipe"),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_nothing_escapes_and_the_rest_comes(name: str, tmp_path: Path) -> None:
    data, why = HOSTILE[name]
    (tmp_path / f"{name}.zip").write_bytes(data)
    done = run("unpack", f"{name}.zip", "--into", "data/deep", cwd=tmp_path)
    assert done.code == 1
    assert why in done.err
    assert "2 files, 1 left out" in done.out
    assert files_in(tmp_path / "data/deep") == {f"{name}/{path}": FILES[path] for path in FILES}
    assert {path.name for path in tmp_path.iterdir()} == {"data", f"{name}.zip"}
    again = run("unpack", f"{name}.zip", "--into", "data/deep", cwd=tmp_path)
    assert (again.code, "1 member left out when" in again.err) == (1, True)


def test_a_link_in_a_zip_and_names_in_any_letters(tmp_path: Path) -> None:
    info = zipfile.ZipInfo("out")
    info.external_attr = (stat.S_IFLNK | 0o777) << 16
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr(info, "/etc/passwd")
        archive.writestr("Zählung.csv", "1")
        archive.writestr("con.txt", "2")
        archive.writestr("LEVEL.csv", "3")
        archive.writestr("level.csv", "4")
    # Written as UTF-8 by a program that does not say so.
    data = packed.getvalue().replace(b"\x00\x08", b"\x00\x00")
    (tmp_path / "names.zip").write_bytes(data)
    done = run("unpack", "names.zip", "--into", "data", cwd=tmp_path)
    assert "left out out: it is a link" in done.err
    assert files_in(tmp_path / "data") == {
        "names/Zählung.csv": b"1",
        "names/_con.txt": b"2",
        "names/LEVEL.csv": b"3",
        "names/level (2).csv": b"4",
    }


def test_what_is_damaged_leaves_nothing_half(tmp_path: Path) -> None:
    whole = bytearray(zipped({"good.csv": b"good" * 99, "bad.csv": os.urandom(999)}, 0))
    whole[whole.find(b"bad.csv") + 100] ^= 1
    (tmp_path / "one.zip").write_bytes(whole)
    (tmp_path / "short.tar.gz").write_bytes(gzip.compress(tarred({"x": os.urandom(9999)}))[:-99])
    (tmp_path / "not.zip").write_bytes(b"<html>Gone</html>")
    (tmp_path / "other.7z").write_bytes(b"7z\xbc\xaf\x27\x1c....")
    done = run("unpack", "one.zip", "short.tar.gz", "not.zip", "other.7z", "--into", "d",
               cwd=tmp_path)  # fmt: skip
    assert done.code == 4
    assert files_in(tmp_path / "d") == {"one/good.csv": b"good" * 99}
    for line in (
        "one.zip: left out bad.csv: bad crc-32",
        "short.tar.gz: not unpacked: it ends too soon; haul it again",
        "not.zip: not unpacked: unknown archive format",
        "other.7z: not unpacked: unsupported archive format 7z; supported are zip, tar,",
    ):
        assert line in done.err
    assert not (tmp_path / "d/.willow/unpacking").exists()


def test_swelling_is_bounded_and_a_bound_can_be_lifted(tmp_path: Path) -> None:
    (tmp_path / "b.zip").write_bytes(zipped({"zeros": bytes(150_000_000)}))
    stopped = run("unpack", "b.zip", "--into", "d", "--unpacked-at-most", "500x", cwd=tmp_path)
    assert (stopped.code, files_in(tmp_path / "d")) == (4, {})
    assert "decompresses to more than 100 MB; if this is expected, raise --unpacked-at-most" in (
        stopped.err
    )
    small = run("unpack", "b.zip", "--into", "d", "--unpacked-at-most", "2000x,10MB", cwd=tmp_path)
    assert "decompresses to more than 10.0 MB" in small.err
    fine = run("unpack", "b.zip", "--into", "d", "--unpacked-at-most", "2000x", cwd=tmp_path)
    assert fine.code == 0
    with pytest.raises(BadOption, match="not a valid limit"):
        Bounds.parse("much")


@pytest.mark.parametrize("by", ["standard", "standard, passing the first check", "aes"])
def test_encrypted_members_need_their_password(by: str, tmp_path: Path) -> None:
    if by == "aes":
        with pyzipper.AESZipFile(
            tmp_path / "s.zip", "w", encryption=pyzipper.WZ_AES, compression=zipfile.ZIP_DEFLATED
        ) as archive:
            archive.setpassword(b"reedmace")
            archive.writestr("ringing.csv", b"bittern,2\n")
    else:
        while True:  # one in 256 lets a wrong password through to the data
            archived = _encrypted("ringing.csv", b"bittern,2\n", b"reedmace")
            if _passes_the_first_check(archived, b"sedge") == ("passing" in by):
                break
        (tmp_path / "s.zip").write_bytes(archived)
    unpack = ["unpack", "s.zip", "--into", "d", "--archive-password", "env:KEY"]
    without = run(*unpack[:-2], cwd=tmp_path)
    assert (without.code, "name its password with --archive-password" in without.err) == (1, True)
    wrong = run(*unpack, cwd=tmp_path, env={"KEY": "sedge"})
    assert wrong.code == 1
    assert "wrong password" in wrong.err
    assert files_in(tmp_path / "d") == {}
    named = run(*unpack, "--unpack-to", "mine", cwd=tmp_path, env={"KEY": "reedmace"})
    assert (named.code, files_in(tmp_path / "d")) == (0, {"mine/ringing.csv": b"bittern,2\n"})
    shutil.rmtree(tmp_path / "d")
    shutil.copy(tmp_path / "s.zip", tmp_path / "t.zip")
    several = run("unpack", "t.zip", *unpack[1:-2], "--unpack-to", "in", cwd=tmp_path)
    assert (several.code, "all 2 files would have the same name" in several.err) == (2, True)
    right = run(*unpack, "--strip-top", cwd=tmp_path, env={"KEY": "reedmace"})
    assert (right.code, files_in(tmp_path / "d")) == (0, {"s/ringing.csv": b"bittern,2\n"})


def _passes_the_first_check(archived: bytes, password: bytes) -> bool:
    with zipfile.ZipFile(io.BytesIO(archived)) as archive:
        try:
            archive.open(archive.infolist()[0], pwd=password).close()
        except RuntimeError:
            return False
    return True


def _encrypted(name: str, content: bytes, password: bytes) -> bytes:
    """A zip archive encrypted in the old way (APPNOTE, 6.1), which nothing here writes."""
    keys = [0x12345678, 0x23456789, 0x34567890]

    def update(byte: int) -> None:
        keys[0] = zlib.crc32(bytes([byte]), keys[0] ^ 0xFFFFFFFF) ^ 0xFFFFFFFF
        keys[1] = ((keys[1] + (keys[0] & 0xFF)) * 134775813 + 1) & 0xFFFFFFFF
        keys[2] = zlib.crc32(bytes([keys[1] >> 24]), keys[2] ^ 0xFFFFFFFF) ^ 0xFFFFFFFF

    for byte in password:
        update(byte)
    crc = zlib.crc32(content)
    plain = os.urandom(11) + bytes([crc >> 24]) + content
    secret = bytearray()
    for byte in plain:
        key = (keys[2] | 2) & 0xFFFF
        secret.append(byte ^ ((key * (key ^ 1)) >> 8 & 0xFF))
        update(byte)
    local = struct.pack(
        "<HHHHHIIIHH", 20, 1, 0, 0, 33, crc, len(secret), len(content), len(name), 0
    )
    entry = b"PK\x01\x02" + struct.pack("<H", 20) + local + struct.pack("<HHHII", 0, 0, 0, 0, 0)
    before = b"PK\x03\x04" + local + name.encode() + secret
    listed = entry + name.encode()
    end = struct.pack("<HHHHIIH", 0, 0, 1, 1, len(listed), len(before), 0)
    return bytes(before) + listed + b"PK\x05\x06" + end


def test_a_part_lifted_nested_and_the_archive_gone(tmp_path: Path, place: StandIn) -> None:
    inner = gzip.compress(tarred({"i/deep.csv": b"1"}))
    files = {"s/counts.csv": b"2", "s/read.txt": b"3", "s/logs.tar.gz": inner}
    place.exhibits["2031.zip"] = Exhibit(zipped(files))
    haul = ["haul", f"{place.base}/2031.zip", "--into", "data", "--unpack", "*.zip", "--strip-top",
            "--nested", "--inside", "*.csv", "--archives", "remove",
            "--unpack-to", "seasons/{stem}"]  # fmt: skip
    assert run(*haul, cwd=tmp_path).out.endswith("1 archive unpacked: 2 files\n")
    lies = {"seasons/2031/counts.csv": b"2", "seasons/2031/logs/i/deep.csv": b"1"}
    assert files_in(tmp_path / "data") == lies
    place.requests.clear()
    again = run(*haul, cwd=tmp_path)
    assert "1 offered, 1 chosen: unchanged" in again.out
    assert files_in(tmp_path / "data") == lies
    assert run("audit", "data", cwd=tmp_path).code == 0
    # A member that is missing brings the archive home again.
    (tmp_path / "data/seasons/2031/counts.csv").unlink()
    assert "1 offered, 1 chosen: arrived" in run(*haul, cwd=tmp_path).out
    assert files_in(tmp_path / "data") == lies
    # The next version has one file less: it must not stay among those of today.
    place.exhibits["2031.zip"] = Exhibit(zipped({"s/counts.csv": b"4", "s/logs.csv": b"5"}))
    newer = run(*haul, cwd=tmp_path)
    assert "1 file of an earlier version no longer in it, such as seasons/2031/logs/i/" in newer.err
    assert files_in(tmp_path / "data") == {
        "seasons/2031/counts.csv": b"4", "seasons/2031/logs.csv": b"5"
    }  # fmt: skip
    assert run("audit", "data", cwd=tmp_path).code == 0


def test_a_member_meets_files_of_others(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {
        "s/same.csv": Exhibit(b"same"),
        "s/other.csv": Exhibit(b"hauled"),
        "s.zip": Exhibit(zipped({"same.csv": b"same", "other.csv": b"packed", "mine.csv": b"p"})),
    }
    (tmp_path / "data/s").mkdir(parents=True)
    (tmp_path / "data/s/mine.csv").write_bytes(b"mine")
    haul = [
        "haul",
        *(f"{place.base}/{path}" for path in place.exhibits),
        "--into",
        "data",
        "--keep-folders",
    ]
    done = run(*haul, "--unpack", "*.zip", cwd=tmp_path)
    assert done.code == 0
    assert "s/mine.csv: an existing file was moved" in done.err
    lies = files_in(tmp_path / "data")
    del lies["s.zip"]
    assert lies == {
        "s/same.csv": b"same", "s/other.csv": b"hauled", "s/other (s.zip).csv": b"packed",
        "s/mine.csv": b"p",
    }  # fmt: skip
    assert run("audit", "data", cwd=tmp_path).code == 0
    # What stood for a member changes: the member is not missing for that.
    place.exhibits["s/same.csv"] = Exhibit(b"new")
    assert "1 archive unpacked before" in run(*haul, "--unpack", "*.zip", cwd=tmp_path).out
    assert files_in(tmp_path / "data")["s/same (s.zip).csv"] == b"same"
    assert files_in(tmp_path / "data")["s/same.csv"] == b"new"
    aside = tmp_path / "data/.willow/aside"
    assert [path.read_bytes() for path in aside.rglob("mine.csv")] == [b"mine"]


class _Killed(BaseException):
    pass


@pytest.mark.parametrize("steps", range(9))
def test_whatever_ends_it_the_next_haul_unpacks_all(
    tmp_path: Path, steps: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    address = "http://h.example/s.zip"
    fake = FakeFile(zipped({"a.csv": b"1", "b/c.csv": b"2"}))
    policy = HaulPolicy(unpack=Unpacking(remove=True))
    left = [steps]

    def counting(do: Callable[..., object]) -> Callable[..., object]:
        def step(*what: object, **more: object) -> object:
            if not left[0]:
                raise _Killed
            left[0] -= 1
            return do(*what, **more)

        return step

    haul_offers([Offer(address)], tmp_path, FakeAccess({address: fake}), HaulPolicy())
    for owner, name in (
        (Destination, "place"),
        (Destination, "sync_files"),
        (Destination, "sync_folders"),
        (Ledger, "keep_members"),
        (Ledger, "replace_by"),
        (os, "unlink"),
    ):
        monkeypatch.setattr(owner, name, counting(getattr(owner, name)))
    with contextlib.suppress(_Killed):
        unpack([tmp_path], None, policy.unpack or Unpacking(), Choosing())
    assert (left[0] == 0) == (steps < 8)
    monkeypatch.undo()
    account = haul_offers([Offer(address)], tmp_path, FakeAccess({address: fake}), policy)
    assert account.exit_code == 0
    lies = files_in(tmp_path)
    if steps == 6:  # all is in the ledger, and only the archive is left
        lies.pop("s.zip", None)
    assert lies == {"s/a.csv": b"1", "s/b/c.csv": b"2"}
    assert not list((tmp_path / ".willow").glob("aside"))


def test_an_archive_that_was_hauled_is_unpacked_where_it_belongs(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {"a/x.zip": Exhibit(zipped(FILES)), "a/y.zip": Exhibit(zipped(FILES))}
    haul = [
        "haul",
        *(f"{place.base}/{path}" for path in place.exhibits),
        "--into",
        "data",
        "--keep-folders",
    ]
    assert run(*haul, cwd=tmp_path).code == 0
    one = run("unpack", "data/a/x.zip", cwd=tmp_path)
    assert (one.code, one.out) == (0, "1 archive unpacked: 2 files\n")
    both = run("unpack", "data", cwd=tmp_path)
    assert both.out == "1 archive unpacked: 2 files; 1 archive unpacked before\n"
    assert "data/a/x/data/counts.csv" in {f"data/{path}" for path in files_in(tmp_path / "data")}
    assert run("unpack", "data", "--keep", "*.rar", cwd=tmp_path).code == 3
    nothing = run("unpack", "none.zip", cwd=tmp_path)
    assert (nothing.code, "none.zip: cannot be read: no such file" in nothing.err) == (2, True)
    lone = run(*haul, "--inside", "*.csv", cwd=tmp_path)
    assert (lone.code, "--inside: requires --unpack" in lone.err) == (2, True)
    assert "x/data/counts.csv" in run("receipt", "data", "--manifest", "sha256sums",
                                      cwd=tmp_path).out  # fmt: skip


_names = st.text(st.sampled_from("ab.\\/ :~é\u202e"), min_size=1, max_size=12)


@given(st.lists(st.tuples(_names, st.binary(max_size=5)), max_size=6), st.booleans())
def test_paths_are_always_safe_and_apart(files: list[tuple[str, bytes]], as_tar: bool) -> None:
    import tempfile

    packed = dict(files)
    data = tarred(packed) if as_tar else zipped(packed)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.zip"
        path.write_bytes(data)
        into = os.path.join(folder, "in")
        os.mkdir(into)
        try:
            with path.open("rb") as file, FileTree(Path(folder)) as tree:
                emptied = empty(file, "x.zip", tree, "in")
        except NotUnpacked:
            return  # an empty name can end a tar archive
        paths = [each.path for each in emptied.taken]
        assert len({each.casefold() for each in paths}) == len(paths)
        for each in emptied.taken:
            assert not {"", ".", ".."} & set(each.path.split("/"))
            assert os.path.dirname(each.file) == "in"
            assert each.sha256
        assert len(os.listdir(into)) == len(paths)


def test_what_is_nested_takes_no_name_of_another(tmp_path: Path) -> None:
    outer = {"a/x.csv": b"outer", "a.zip": zipped({"x.csv": b"inner"})}
    (tmp_path / "o.zip").write_bytes(zipped(outer))
    done = run("unpack", "o.zip", "--into", "d", "--nested", cwd=tmp_path)
    assert (done.code, done.err) == (0, "")
    assert files_in(tmp_path / "d") == {"o/a/x.csv": b"outer", "o/a/x (2).csv": b"inner"}


def test_only_one_folder_that_all_share_is_lifted() -> None:
    def taken(*paths: str) -> list[ExtractedMember]:
        return [ExtractedMember(path, path, "1", 1, "") for path in paths]

    assert [each.path for each in without_top(taken("a/b/c", "a/d"))] == ["b/c", "d"]
    assert [each.path for each in without_top(taken("a/b", "c"))] == ["a/b", "c"]
    assert [each.path for each in without_top(taken("a", "a/b"))] == ["a", "a/b"]
