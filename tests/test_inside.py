"""Files inside archives that lie elsewhere: listed and brought by byte ranges."""

from __future__ import annotations

import io
import re
import zipfile
import zlib
from pathlib import Path
from typing import IO, Any, BinaryIO, cast

import pytest

from tests.support.program import files_in, run
from tests.support.servers import nginx
from tests.test_unpacking import zipped
from willow_cart.addresses import address_inside, name_of, normalise, segments_of, take_inside
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import ConnectionLost, NotServed, ProtocolError
from willow_cart.protocols.base import Download, Resumability, Unchanged
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.protocols.inside import Inside

ZIP = "http://h.example/a/big.zip?v=2"
FILES = {"in/levels.csv": b"level\n" * 9000, "in/dawn.wav": bytes(range(256)) * 99}


def archive(packing: int = zipfile.ZIP_DEFLATED) -> FakeFile:
    return FakeFile(zipped(FILES, packing))


def read(delivery: Download | Unchanged) -> bytes:
    assert isinstance(delivery, Download)
    content = bytearray()
    while piece := delivery.read():
        content += piece
    delivery.close()
    return bytes(content)


@pytest.mark.parametrize("packing", [zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2])
def test_every_member_comes_by_itself(packing: int) -> None:
    inside = Inside(FakeAccess({ZIP: archive(packing)}))
    entries = {take_inside(each.address)[1]: each for each in inside.entries(ZIP)}
    assert {path: each.size for path, each in entries.items()} == {
        path: len(content) for path, content in FILES.items()
    }
    for path, content in FILES.items():
        address = entries[path].address
        delivery = inside.open(address)
        assert read(delivery) == content
        facts = inside.ask(address)
        assert facts.length == len(content)
        assert str(facts.checksums[0]) == f"crc32:{zlib.crc32(content):08x}"
        assert isinstance(inside.open(address, validators=facts.validators), Unchanged)
        part = inside.open(address, start=1000, validators=facts.validators)
        assert isinstance(part, Download)
        is_stored = packing == zipfile.ZIP_STORED
        assert (part.joining is Resumability.SAFE) == is_stored
        assert part.start == (1000 if is_stored else 0)
        assert read(part) == content[part.start :]
    with pytest.raises(NotServed, match="not in the archive"):
        inside.open(address_inside(ZIP, "in/none"))


def test_what_is_no_archive_or_another_by_now_is_told() -> None:
    fake = archive()
    inside = Inside(FakeAccess({ZIP: fake, "http://h.example/x": FakeFile(b"<html>")}))
    address = next(iter(inside.entries(ZIP))).address
    fake.content, fake.entity_tag = zipped({"other.csv": b"1" * 99_999}, 0), '"2"'
    with pytest.raises(ConnectionLost, match="has changed while it was read"):
        inside.open(address)
    # Asked again, its new contents are read.
    assert [take_inside(each.address)[1] for each in inside.entries(ZIP)] == ["other.csv"]
    with pytest.raises(ProtocolError, match="not a zip archive"):
        list(inside.entries("http://h.example/x"))
    broken = bytearray(zipped(FILES))
    broken[60] ^= 255
    fake.content = bytes(broken)
    with pytest.raises(ProtocolError, match=r"cannot be unpacked|another length"):
        read(Inside(FakeAccess({ZIP: fake})).open(address_inside(ZIP, "in/levels.csv")))


def test_an_address_inside_is_like_any_other() -> None:
    address = address_inside(ZIP, "in/a b#1?.csv")
    assert address == "http://h.example/a/big.zip?v=2#inside=in/a%20b%231%3F.csv"
    assert normalise(address.replace("http", "HTTP", 1)) == address
    assert take_inside(address) == (ZIP, "in/a b#1?.csv")
    assert name_of(address) == "a b#1?.csv"
    assert segments_of(address) == ["a", "big.zip", "in", "a b#1?.csv"]
    assert normalise("http://h.example/page.html#inside") == "http://h.example/page.html"


class _Sparse:
    """A file in which zeros are gaps, which take neither time nor room."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)

    def write(self, data: bytes) -> int:
        if data.count(0) == len(data) > 4096:
            self._file.seek(len(data), io.SEEK_CUR)
            return len(data)
        return self._file.write(data)


def test_a_gibibyte_is_listed_and_a_member_brought_for_little(tmp_path: Path) -> None:
    site = tmp_path / "site"
    site.mkdir()
    with (
        (site / "big.zip").open("wb") as file,
        zipfile.ZipFile(cast(IO[bytes], _Sparse(file)), "w") as packed,
    ):
        packed.writestr("deep/first.csv", b"day,teal\n1,12\n")
        with packed.open(zipfile.ZipInfo("filling.bin"), "w", force_zip64=True) as filling:
            for _ in range(1024):
                filling.write(bytes(1 << 20))
        for number in range(2000):
            packed.writestr(f"many/{number}.csv", f"{number}\n" * 40, zipfile.ZIP_DEFLATED)
    with nginx(site, tmp_path / "nginx") as base:
        look = ["--as", "archive", f"{base}/big.zip"]
        listed = run("survey", *look, "--json", cwd=tmp_path).json()
        assert (listed["offered"], listed["bytes_known"] > 1 << 30) == (2002, True)
        chosen = ["--keep", "deep/*", "--keep", "many/199?.csv"]
        brought = run("haul", *look, *chosen, "--into", "data", cwd=tmp_path)
        assert brought.out.startswith("2,002 offered, 11 chosen: all arrived")
        again = run("haul", *look, *chosen, "--into", "data", cwd=tmp_path)
        assert again.out.startswith("2,002 offered, 11 chosen: all unchanged")
        # As nginx counts what it has sent, in all three.
        log = (tmp_path / "nginx" / "access.log").read_text()
    lies = files_in(tmp_path / "data")
    assert lies["deep/first.csv"] == b"day,teal\n1,12\n"
    assert lies["many/1999.csv"] == b"1999\n" * 40
    assert sum(int(size) for size in re.findall(r'" 20[06] (\d+) "', log)) < 1 << 20
    receipt = run("receipt", "data", "--run", "1", "--json", cwd=tmp_path).json()
    assert {each["verdict"] for each in receipt["files"]} == {"crc32 from its archive, weak"}
    (site / "big.zip").unlink()


def test_members_go_through_a_cart_and_a_local_archive_is_a_source(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["s.zip"] = Exhibit(zipped(FILES | {"../up.csv": b"1"}))
    load = ["load", f"{place.base}/s.zip", "--as", "archive", "--ext", "csv", "--cart", "c.csv"]
    assert run(*load, cwd=tmp_path).code == 0
    hauled = run("haul", "c.csv", "--into", "data", cwd=tmp_path)
    assert hauled.out.startswith("2 offered, 2 chosen: all arrived")
    assert files_in(tmp_path / "data") == {
        "in/levels.csv": FILES["in/levels.csv"], "up.csv": b"1"
    }  # fmt: skip
    (tmp_path / "s.zip").write_bytes(zipped(FILES))
    assert run("haul", "s.zip", "--into", "local", cwd=tmp_path).code == 0
    assert files_in(tmp_path / "local") == FILES


def test_a_place_without_parts_says_so(tmp_path: Path, place: StandIn) -> None:
    import os

    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as made:
        made.writestr("a.bin", os.urandom(200_000))
    place.exhibits["s.zip"] = Exhibit(packed.getvalue(), ranges=False)
    told = run("survey", f"{place.base}/s.zip", "--as", "archive", cwd=tmp_path)
    assert told.code == 1
    assert "can only be fetched whole; haul it, and unpack it with --unpack" in told.err
    tar = run("survey", f"{place.base}/s.zip", "--as", "feed", cwd=tmp_path)
    assert tar.code == 2
