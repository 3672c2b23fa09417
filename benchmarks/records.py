"""Measure a ledger of a million arrivals, and an audit: part of `make bench`, and by itself."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from willow_cart.ledger.entries import Arrival, Result
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.model import State

WILLOW_CART = [sys.executable, "-m", "willow_cart"]
ARRIVALS = 1_000_000

# What is audited: many small files and a few large ones.
AUDITED = {20 << 10: 16_000, 2 << 20: 600, 1 << 30: 6}  # bytes, and how many have so many


def large_ledger(work: Path) -> None:
    """How long a person waits for a receipt of a million files."""
    folder = work / "million"
    (folder / ".willow").mkdir(parents=True)
    began = time.perf_counter()
    with Ledger(ledger_path(folder), create=True) as ledger:
        run = ledger.begin_run("willow-cart haul keys.csv --into million")
        with ledger.transaction():
            for result in _results():
                ledger.record(run, result)
        ledger.end_run(run, 0)
    seconds = time.perf_counter() - began
    size = ledger_path(folder).stat().st_size
    print(f"\nA ledger of {ARRIVALS:,} arrivals ({size / 1e6:.0f} MB, entered in {seconds:.0f} s)")
    name = "img_0654321.jpg"
    for title, options in (
        ("receipt", []),
        ("receipt --of a path", ["--of", f"2031-05/{name}"]),
        ("receipt --of a name", ["--of", name]),
        ("receipt --runs", ["--runs"]),
        ("receipt --csv", ["--csv"]),
        ("receipt --json", ["--json"]),
        ("receipt --html", ["--html", str(work / "million.html")]),
        ("receipt --manifest ro-crate", ["--manifest", "ro-crate"]),
    ):
        taken, memory = _run(["receipt", str(folder), *options])
        print(f"  {title:28} {taken:6.2f} s, {memory:4.0f} MB")


def _results() -> Iterator[Result]:
    for number in range(1, ARRIVALS + 1):
        path = f"2031-05/img_{number:07d}.jpg"
        address = f"s3://camera-traps/{path}"
        state, reason = State.ARRIVED, ""
        arrival: Arrival | None = Arrival(
            address, address, path, "2031-06-01T06:00:00+00:00", number,
            hashlib.sha256(path.encode()).hexdigest(), '"abc"', None, "", "length only", 0
        )  # fmt: skip
        if not number % 5000:
            state, reason, arrival = State.FAILED, "404 Not Found", None
        yield Result(number, address, path, state, reason, number, 0, 1, 0.1, arrival)


def large_audit(work: Path, passes: int) -> None:
    """How fast an audit reads, beside processors that do nothing but hash."""
    folder = work / "audited"
    (folder / ".willow").mkdir(parents=True)
    rng = random.Random(2031)
    block = rng.randbytes(1 << 20)
    with Ledger(ledger_path(folder), create=True) as ledger, ledger.transaction():
        run = ledger.begin_run("willow-cart haul all.csv --into audited")
        sizes = [size for size, count in AUDITED.items() for _ in range(count)]
        for number, size in enumerate(sizes, 1):
            ledger.record(run, _make(folder, number, size, block))
    size, files = sum(sizes), len(sizes)
    audits, hashes = [], []
    for _ in range(passes):
        audits.append(_run(["audit", str(folder)])[0])
        hashes.append(_hash_only(size))
    shutil.rmtree(folder)
    ratio = statistics.median(h / a for h, a in zip(hashes, audits, strict=True))
    print(f"\nAn audit of {size / 1e9:.1f} GB in {files:,} files")
    print(f"  {statistics.median(audits):.2f} s; to hash as much in memory on"
          f" {os.cpu_count()} processors takes {statistics.median(hashes):.2f} s")  # fmt: skip
    print(f"  {ratio:.2f} of that speed (wanted: 0.9)")


def _make(folder: Path, number: int, size: int, block: bytes) -> Result:
    path = f"{size}/{number}.bin"
    file = folder / path
    file.parent.mkdir(exist_ok=True)
    digest = hashlib.sha256()
    mark = path.encode().ljust(64)
    with file.open("wb") as out:
        for at in range(0, size, len(block)):
            piece = mark + block[: min(len(block), size - at) - len(mark)]
            digest.update(piece)
            out.write(piece)
    arrival = Arrival(
        f"https://h.example/{path}", "", path, "2031-06-01T06:00:00+00:00", size,
        digest.hexdigest(), None, None, "", "length only", file.stat().st_mtime_ns
    )  # fmt: skip
    return Result(number, arrival.address, path, State.ARRIVED, "", size, 0, 1, 0.1, arrival)


def _hash_only(size: int) -> float:
    """Seconds in which all processors together hash so many bytes that they need not read."""
    processors = os.cpu_count() or 1
    block = bytes(256 << 10)

    def work(_: int) -> None:
        digest = hashlib.sha256()
        for _ in range(size // processors // len(block)):
            digest.update(block)

    began = time.perf_counter()
    with ThreadPoolExecutor(processors) as pool:
        list(pool.map(work, range(processors)))
    return time.perf_counter() - began


def _run(words: Sequence[str]) -> tuple[float, float]:
    """Seconds and megabytes that a command takes."""
    began = time.perf_counter()
    with subprocess.Popen([*WILLOW_CART, *words], stdout=subprocess.DEVNULL) as process:
        _, _, usage = os.wait4(process.pid, 0)
        process.returncode = 0
    return time.perf_counter() - began, usage.ru_maxrss / 1e3


def main() -> None:
    """Measure both, in a folder that is named or in one for passing things."""
    with tempfile.TemporaryDirectory(dir=next(iter(sys.argv[1:]), None)) as folder:
        large_ledger(Path(folder))
        large_audit(Path(folder), 3)


if __name__ == "__main__":
    main()
