"""Archives that are made to do harm: each fails by itself, in every command that opens one."""

from __future__ import annotations

import gzip
import io
import os
import random
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.support.program import files_in, run, start
from willow_cart.archives.extract import open_members
from willow_cart.archives.reader import Bounds, Damaged, MemberSort, Outflow
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import NotUnpacked

GOOD = b"site,level\nHW-1,2.5\n"


def zipped(*members: tuple[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in members:
            archive.writestr(name, content)
    return out.getvalue()


def overlapping() -> bytes:
    """Two hundred members that are all the same bytes of the archive."""
    whole = zipped(("0.csv", bytes(5_000_000)))
    at = whole.index(b"PK\x01\x02")
    entry, local = whole[at : whole.index(b"PK\x05\x06")], whole[:at]
    entries = b"".join(entry.replace(b"0.csv", f"{n % 10}{n // 10:02}cs".encode()[:5])
                       for n in range(200))  # fmt: skip
    end = struct.pack("<4s4H2IH", b"PK\x05\x06", 0, 0, 200, 200, len(entries), len(local), 0)
    return local + entries + end


def beyond() -> bytes:
    """A member that begins after the end of the archive."""
    whole = bytearray(zipped(("a.csv", GOOD), ("b.csv", GOOD)))
    at = whole.index(b"PK\x01\x02")
    whole[at + 42 : at + 46] = struct.pack("<I", len(whole) * 10)
    return bytes(whole)


def header(name: str, size: int, kind: bytes = b"0", sized: bytes | None = None) -> bytes:
    info = tarfile.TarInfo(name)
    info.type = kind
    block = bytearray(info.tobuf(tarfile.GNU_FORMAT))
    block[124:136] = sized if sized is not None else f"{size:011o}\0".encode()
    block[148:156] = b" " * 8
    block[148:156] = f"{sum(block[:512]):06o}\0 ".encode()
    return bytes(block[:512])


def pax(records: bytes, then: bytes) -> bytes:
    padded = records.ljust(-(-len(records) // 512) * 512, b"\0")
    return header("pax", len(records), b"x") + padded + then


def record(key: str, value: str) -> bytes:
    line = f" {key}={value}\n"
    return f"{len(line) + 2}{line}".encode()


def endless() -> bytes:
    return pax(record("size", str(1 << 60)), header("a.csv", 5)) + b"x" * 2048


def long_name() -> bytes:
    return header("././@LongLink", 1_500_000_000, b"L") + b"n" * 4096


def long_attributes() -> bytes:
    return header("pax", 1_500_000_000, b"x") + b"n" * 4096


def chained() -> bytes:
    one = header("././@LongLink", 2, b"L") + b"n\0".ljust(512, b"\0")
    return one * 1500 + header("a.csv", len(GOOD)) + GOOD.ljust(512, b"\0") + bytes(1024)


def sparse() -> bytes:
    block = bytearray(header("a.csv", 5, b"S"))
    block[386:482] = b"\xff" * 96
    block[482] = 1
    block[148:156] = b" " * 8
    block[148:156] = f"{sum(block):06o}\0 ".encode()
    return bytes(block) + b"\xff" * 512 + b"x" * 1024


def negative() -> bytes:
    return header("a.csv", 0, sized=b"\xff" * 12) + b"x" * 2048


def sparse_map() -> bytes:
    records = record("GNU.sparse.map", "0,x,9") + record("GNU.sparse.size", "-9")
    return pax(records, header("a.csv", 5)) + b"x" * 1024


ARCHIVES: dict[str, Callable[[], bytes]] = {
    "overlapping.zip": overlapping,
    "beyond.zip": beyond,
    "endless.tar": endless,
    "endless.tar.gz": lambda: gzip.compress(endless()),
    "long_name.tar": long_name,
    "long_attributes.tar": long_attributes,
    "chained.tar": chained,
    "sparse.tar": sparse,
    "sparse_map.tar": sparse_map,
    "negative.tar": negative,
    "bomb.tar.gz": lambda: gzip.compress(header("a.csv", 1 << 30) + bytes(160_000_000)),
    "bomb.zip": lambda: zipped(("a.csv", bytes(160_000_000))),
    "bomb.csv.gz": lambda: gzip.compress(bytes(160_000_000)),
    "deep.json": lambda: b"[" * 200_000,
    "deep.jsonl": lambda: b"[" * 200_000 + b"\n",
}


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[StandIn]:
    exhibits = {name: Exhibit(make()) for name, make in ARCHIVES.items()}
    with StandIn(exhibits | {"good.zip": Exhibit(zipped(("good.csv", GOOD)))}) as place:
        yield place


@pytest.mark.parametrize("way", ["--unpack", "--inspect", "--as"])
def test_no_archive_ends_a_haul_or_swells_beyond_its_bounds(
    tmp_path: Path, served: StandIn, way: str
) -> None:
    """The others come home, each odd one is told by its name, and memory and disk stay small."""
    names = [name for name in ARCHIVES if way != "--as" or name.endswith(".zip")]
    words = {
        "--unpack": ["--unpack", "*.zip", "--unpack", "*.tar", "--unpack", "*.gz"],
        "--inspect": ["--inspect"],
        "--as": ["--as", "archive"],
    }[way]
    addresses = [f"{served.base}/{name}" for name in (*names, "good.zip")]
    done = run("haul", *addresses, "--into", "data", *words, "--unpacked-at-most", "101MB",
               "--attempts", "1", cwd=tmp_path, timeout=240)  # fmt: skip
    assert "internal error" not in done.err + done.out
    assert done.code in (1, 4)
    for name in names:
        if name not in ("chained.tar", "beyond.zip", "deep.json", "deep.jsonl"):
            assert name in done.err + done.out + run("receipt", "data", cwd=tmp_path).out, name
    if way != "--inspect":
        assert GOOD in files_in(tmp_path / "data").values()
    assert sum(map(len, files_in(tmp_path / "data").values())) < 20_000_000


@pytest.mark.parametrize("name", ARCHIVES)
def test_every_archive_is_read_to_an_end_in_little_memory(tmp_path: Path, name: str) -> None:
    """Read by the one reader that all commands have in common."""
    path = tmp_path / name
    path.write_bytes(ARCHIVES[name]())
    outflow = Outflow(name, path.stat().st_size, Bounds(most=10_000_000))
    read = 0
    with path.open("rb") as file:
        from contextlib import ExitStack

        with ExitStack() as stack:
            try:
                members, _ = open_members(file, name, outflow, None, stack)
                for member in members:
                    if member.sort is MemberSort.FILE:
                        source = member.open()
                        while piece := source.read(1 << 20):
                            read += len(piece)
            except (Damaged, NotUnpacked):
                pass
    assert read <= 11_000_000


@pytest.mark.parametrize("seed", range(60))
def test_flipped_bytes_are_damage_and_nothing_else(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for number in range(3):
            info = tarfile.TarInfo("n" * 120 + f"{number}.csv")
            info.size, info.mtime = len(GOOD), 1.5
            archive.addfile(info, io.BytesIO(GOOD))
    whole = bytearray(rng.choice([out.getvalue(), zipped(("a.csv", GOOD), ("b.csv", GOOD))]))
    for _ in range(rng.randrange(1, 30)):
        whole[rng.randrange(len(whole))] = rng.randrange(256)
    (tmp_path / "x.zip").write_bytes(whole)
    done = run("unpack", "x.zip", "--into", "out", cwd=tmp_path)
    assert "internal error" not in done.err
    assert done.code in (0, 1, 2, 4)


def test_members_that_are_not_asked_for_count_too(tmp_path: Path) -> None:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:gz") as archive:
        for name, size in (("zeros.bin", 150_000_000), ("wanted.csv", 5)):
            info = tarfile.TarInfo(name)
            info.size = size
            archive.addfile(info, io.BytesIO(bytes(size)))
    (tmp_path / "x.tar.gz").write_bytes(out.getvalue())
    done = run(
        "unpack", "x.tar.gz", "--inside", "*.csv", "--unpacked-at-most", "101MB", cwd=tmp_path
    )
    assert done.code == 4
    assert "decompresses to more than 101 MB" in done.out + done.err


def test_a_stop_ends_the_reading_of_an_archive(tmp_path: Path) -> None:
    packer = zlib.compressobj(1, wbits=31)
    content = packer.compress(header("a.csv", 1 << 36)) + packer.compress(bytes(400_000_000))
    (tmp_path / "x.tar.gz").write_bytes(content + packer.flush())
    process = start("unpack", "x.tar.gz", "--inside", "*.txt", "--unpacked-at-most", "90GB",
                    "--into", "out", cwd=tmp_path)  # fmt: skip
    while not (tmp_path / "out" / ".willow" / "unpacking").exists():
        assert process.poll() is None
    process.terminate()
    process.communicate(timeout=240)
    assert process.returncode == 130


def test_what_comes_out_of_an_archive_elsewhere_counts_as_it_came(
    tmp_path: Path, served: StandIn
) -> None:
    served.exhibits["zeros.zip"] = Exhibit(zipped(("zeros.csv", bytes(5_000_000))))
    run("haul", f"{served.base}/zeros.zip", "--as", "archive", "--into", "data", cwd=tmp_path)
    receipt = run("receipt", "data", "--json", cwd=tmp_path).json()
    assert receipt["received"] < 50_000
    assert os.path.getsize(tmp_path / "data" / "zeros.csv") == 5_000_000
