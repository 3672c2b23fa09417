"""What grows with the number of files: pages, buckets, carts, ledgers, and a folder to audit."""

from __future__ import annotations

import hashlib
import os
import random
import socket
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from rows import usage_of

from willow_cart.demo.store import DemoStore
from willow_cart.ledger.entries import Arrival, Result
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.model import State

WILLOW_CART = [sys.executable, "-m", "willow_cart"]
ARRIVALS = 1_000_000
PAGE_LINKS = 50_000
BUCKET_KEYS = 1_000_000

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


def large_audit(work: Path) -> tuple[Path, int]:
    """Make a folder to audit; return it, and how many bytes its files have."""
    folder = work / "audited"
    (folder / ".willow").mkdir(parents=True)
    block = random.Random(2031).randbytes(1 << 20)
    with Ledger(ledger_path(folder), create=True) as ledger, ledger.transaction():
        run = ledger.begin_run("willow-cart haul all.csv --into audited")
        sizes = [size for size, count in AUDITED.items() for _ in range(count)]
        for number, size in enumerate(sizes, 1):
            ledger.record(run, _make(folder, number, size, block))
    return folder, sum(sizes)


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


def _run(words: Sequence[str]) -> tuple[float, float]:
    """Seconds and megabytes that a command takes."""
    began = time.perf_counter()
    with subprocess.Popen([*WILLOW_CART, *words], stdout=subprocess.DEVNULL) as process:
        _, _, usage = os.wait4(process.pid, 0)
        process.returncode = 0
    return time.perf_counter() - began, usage.ru_maxrss / 1e3


def large_page(work: Path, serve: Callable[[str], str], passes: int) -> None:
    """Fifty thousand links in a table, surveyed."""
    rows = "".join(f"<tr><td>{n}<td><a href=f/{n}.csv>day {n}</a>" for n in range(PAGE_LINKS))
    base = serve("small")
    (work / "www/page.html").write_text(f"<table><tr><th>day<th>levels{rows}</table>")
    page = base.removesuffix("small") + "page.html"
    usages = [usage_of([*WILLOW_CART, "survey", page]) for _ in range(passes)]
    seconds = statistics.median(usage.ru_utime + usage.ru_stime for usage in usages)
    memory = max(usage.ru_maxrss for usage in usages) / 1e3
    print(f"\nA page of {PAGE_LINKS:,} links in a table, surveyed")
    print(f"  {seconds:.2f} s of processor time (wanted: under 3), {memory:.0f} MB (under 150)")


def large_bucket() -> None:
    """A million keys, made on the fly by a store on this machine, surveyed."""
    with DemoStore({}, made={"million": million_keys}) as store:
        usage = usage_of([*WILLOW_CART, "survey", "s3://million/", "--endpoint", store.base])
    seconds = usage.ru_utime + usage.ru_stime
    print(f"\nA bucket of {BUCKET_KEYS:,} keys, surveyed")
    print(f"  {BUCKET_KEYS / seconds:,.0f} keys a second of processor time (wanted: 40,000),"
          f" {usage.ru_maxrss / 1e3:.0f} MB (wanted: under 120)")  # fmt: skip


def large_cart(work: Path) -> None:
    """A cart of a million rows, as long as it takes to the first request of its haul."""
    print(f"\nA cart of {BUCKET_KEYS:,} rows (wanted: under 300 MB, and seconds)")
    cart = str(work / "million.csv")
    with DemoStore({}, made={"million": million_keys}) as store:
        load = [*WILLOW_CART, "load", "s3://million/", "--endpoint", store.base, "--cart", cart]
        for title, command in (
            ("loaded", load),
            ("loaded again", load),
            ("picked in", [*WILLOW_CART, "pick", cart, "--out", "--keep", "*7.jpg"]),
            ("weighed", [*WILLOW_CART, "weigh", cart]),
            ("split into shares", [*WILLOW_CART, "weigh", cart, "--shares", "4"]),
        ):
            began = time.perf_counter()
            usage = usage_of(command)
            seconds = time.perf_counter() - began
            print(f"  {title:28} {seconds:7.2f} s, {usage.ru_maxrss / 1e3:.0f} MB")
    with socket.create_server(("127.0.0.1", 0)) as listener:
        place = f"http://127.0.0.1:{listener.getsockname()[1]}"
        began = time.perf_counter()
        haul = subprocess.Popen(
            [*WILLOW_CART, "haul", cart, "--into", str(work / "million"), "--endpoint", place],
            stderr=subprocess.DEVNULL,
        )
        listener.accept()
        seconds = time.perf_counter() - began
        status = Path(f"/proc/{haul.pid}/status").read_text()
        haul.kill()
        haul.wait()
    peak = int(status.partition("VmHWM:")[2].split()[0]) / 1e3
    print(f"  {'hauled, to the first request':28} {seconds:7.2f} s, {peak:.0f} MB")


def million_keys(after: str) -> Iterator[tuple[str, int]]:
    """The keys that sort behind one, with sizes."""
    begin = int(after[4:11]) + 1 if after.startswith("img_") else 0
    return ((f"img_{number:07d}.jpg", 1000 + number % 977) for number in range(begin, BUCKET_KEYS))
