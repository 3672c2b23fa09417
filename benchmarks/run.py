"""Measure Willow Cart against plain scripts that do the same work: `make bench`.

Every figure is a ratio of whole processes run in turn on this machine, so that it holds on others;
seconds are printed beside it. Takes some minutes and ten gigabytes of disk.
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT))

from outbox import growing_ledger, outbox  # noqa: E402
from records import large_audit, large_ledger  # noqa: E402

from tests.support.line import Weather, line  # noqa: E402
from tests.support.servers import nginx  # noqa: E402
from willow_cart.demo.store import DemoStore  # noqa: E402

HERE = Path(__file__).parent
WILLOW_CART = [sys.executable, "-m", "willow_cart"]
SMALL_FILES = 5000
PAGE_LINKS = 50_000
BUCKET_KEYS = 1_000_000
SMALL_SIZE = 8 * 1024
LARGE_SIZE = 1 << 30
MEDIUM_FILES = 200
MEDIUM_SIZE = 256 << 10
LONGER_SIZE = 64 << 20
LATENCY = 0.1
LINE_SPEED = 2e6


# Hides the instructions for SHA from OpenSSL, as on the many processors that have none.
PLAIN_PROCESSOR = {"OPENSSL_ia32cap": "~0x0:~0x20000000"}


def measure(command: Sequence[str], into: Path, env: Mapping[str, str]) -> float:
    """Run a command that writes into a folder, and return its seconds."""
    # A new folder each time: making files where thousands were deleted is slow for minutes.
    began = time.perf_counter()
    subprocess.run(
        [*command, str(into)], check=True, stdout=subprocess.DEVNULL, env={**os.environ, **env}
    )
    return time.perf_counter() - began


def in_turn(
    commands: Mapping[str, Sequence[str]],
    passes: int,
    work: Path,
    env: Mapping[str, str] | None = None,
) -> dict[str, list[float]]:
    """Run commands in turn, so that a machine that drifts drifts for all; the first round warms."""
    seconds: dict[str, list[float]] = {name: [] for name in commands}
    for number in range(passes + 1):
        for name, command in commands.items():
            into = work / f"{name}-{number}"
            taken = measure(command, into, env or {})
            if number:
                seconds[name].append(taken)
            if any(path.stat().st_size > SMALL_SIZE for path in into.rglob("*.bin")):
                shutil.rmtree(into)
    return seconds


def report(title: str, seconds: dict[str, list[float]], ours: str, bases: Sequence[str]) -> float:
    """Print medians, and the median ratio of ours to the slowest of the bases in each round."""
    print(f"\n{title}")
    for name, those in seconds.items():
        low, mid, high = min(those), statistics.median(those), max(those)
        print(f"  {name:28} {mid:7.2f} s   ({low:.2f} to {high:.2f})")
    passes = zip(*(seconds[base] for base in bases), strict=True)
    ratios: list[float] = [
        mine / max(others) for mine, others in zip(seconds[ours], passes, strict=True)
    ]
    return statistics.median(ratios)


def ratio_of(these: Sequence[float], those: Sequence[float]) -> float:
    """The median ratio of two commands' seconds, round by round."""
    return statistics.median(one / other for one, other in zip(these, those, strict=True))


def far_away(base: str, work: Path, passes: int) -> None:
    """A server behind 100 ms of latency, which gives each connection 2 MB/s."""
    with line(base, Weather(latency=LATENCY, speed=LINE_SPEED)) as place:
        medium = f"{place}/medium/{{000..{MEDIUM_FILES - 1}}}.bin"
        one = f"{place}/longer.bin"
        print(f"\nBehind {LATENCY * 1000:.0f} ms, at {LINE_SPEED / 1e6:.0f} MB/s a connection")
        for title, size, connections, options in (
            ("200 files of 256 KiB, 4 lanes", MEDIUM_SIZE, 4, [medium]),
            ("200 files of 256 KiB, 8 lanes", MEDIUM_SIZE, 8, [medium, "--lanes-per-host", "8"]),
            ("64 MiB in 8 strands", LONGER_SIZE // 8, 8, [one, "--as", "file", "--strands", "8"]),
        ):
            in_line = 1 if "strands" in title else MEDIUM_FILES / connections
            # A connection is made once; every file then waits for its answer and comes.
            ideal = LATENCY + in_line * (LATENCY + size / LINE_SPEED)
            seconds = in_turn({title: [*WILLOW_CART, "haul", *options, "--into"]}, passes, work)
            mid = statistics.median(seconds[title])
            print(f"  {title:32} {mid:6.2f} s, {mid / ideal:.2f} times the ideal (wanted: 1.25)")


def large_file(base: str, work: Path, passes: int) -> None:
    """One gigabyte, hashed on the way, against the parts of that work alone."""
    script = str(HERE / "plain.py")
    haul = [*WILLOW_CART, "haul", f"{base}/large.bin", "--as", "file"]
    commands = {
        "willow-cart": [*haul, "--into"],
        "willow-cart, two strands": [*haul, "--strands", "2", "--into"],
        "receive and write": [sys.executable, script, "raw", f"{base}/large.bin"],
        "SHA-256 in memory": [sys.executable, script, "hash", str(LARGE_SIZE)],
    }
    bases = ("receive and write", "SHA-256 in memory")
    for processor, env in (("as it is", {}), ("without instructions for SHA", PLAIN_PROCESSOR)):
        seconds = in_turn(commands, passes, work / processor, env)
        title = f"One file of 1 GiB from nginx on this machine, its processor {processor}"
        ratio = report(title, seconds, "willow-cart", bases)
        print(f"  ratio to the larger of the two: {ratio:.2f} (wanted: at most 1.15)")
        two = seconds["willow-cart, two strands"]
        print(f"  two strands to one: {ratio_of(two, seconds['willow-cart']):.2f}")


def small_files(base: str, work: Path, passes: int) -> None:
    """Many small files, against the script that people write."""
    addresses = f"{base}/small/{{0000..{SMALL_FILES - 1}}}.csv"
    commands = {
        "willow-cart": [*WILLOW_CART, "haul", addresses, "--into"],
        "requests, 8 threads": [sys.executable, str(HERE / "plain.py"), "many", base],
    }
    seconds = in_turn(commands, passes, work)
    title = f"{SMALL_FILES:,} files of 8 KiB from nginx on this machine"
    ratio = report(title, seconds, "willow-cart", ["requests, 8 threads"])
    print(f"  files a second, ours to theirs: {1 / ratio:.2f} (wanted: at least 2)")
    # RSS is in KiB on Linux, and of the largest child so far: measured apart from the script.
    usage = usage_of([*commands["willow-cart"], str(work / "memory")])
    print(f"  peak memory of the haul: {usage.ru_maxrss / 1e3:.0f} MB (wanted: under 80)")


def large_page(base: str, passes: int) -> None:
    """Fifty thousand links in a table, surveyed."""
    usages = [usage_of([*WILLOW_CART, "survey", f"{base}/page.html"]) for _ in range(passes)]
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


def usage_of(command: Sequence[str]) -> resource.struct_rusage:
    """What a command takes of the machine; its memory is in KiB."""
    child = os.fork()
    if child == 0:
        out = os.open(os.devnull, os.O_WRONLY)
        os.dup2(out, 1)
        os.execvp(command[0], list(command))
    _, _, usage = os.wait4(child, 0)
    return usage


def start_up(passes: int) -> None:
    """How long a person waits for help."""
    seconds = []
    for _ in range(passes * 3):
        began = time.perf_counter()
        subprocess.run([*WILLOW_CART, "--help"], check=True, stdout=subprocess.DEVNULL)
        seconds.append(time.perf_counter() - began)
    print(f"\nwillow-cart --help: {statistics.median(seconds):.3f} s (wanted: under 0.25)")


def make_files(root: Path) -> None:
    """What nginx serves: the same bytes every time."""
    rng = random.Random(2031)
    (root / "small").mkdir(parents=True)
    for number in range(SMALL_FILES):
        (root / "small" / f"{number:04d}.csv").write_bytes(rng.randbytes(SMALL_SIZE))
    rows = "".join(f"<tr><td>{n}<td><a href=f/{n}.csv>day {n}</a>" for n in range(PAGE_LINKS))
    (root / "page.html").write_text(f"<table><tr><th>day<th>levels{rows}</table>")
    (root / "medium").mkdir()
    for number in range(MEDIUM_FILES):
        (root / "medium" / f"{number:03d}.bin").write_bytes(rng.randbytes(MEDIUM_SIZE))
    for name, size in (("large.bin", LARGE_SIZE), ("longer.bin", LONGER_SIZE)):
        with (root / name).open("wb") as file:
            for _ in range(size >> 20):
                file.write(rng.randbytes(1 << 20))


def main() -> None:
    """Measure what is asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--passes", type=int, default=5)
    parser.add_argument("--folder", type=Path, help="where to work, on the disk to measure")
    args = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_NOFILE, (1024, 1024))
    with tempfile.TemporaryDirectory(dir=args.folder, prefix="willow-cart-bench-") as folder:
        work = Path(folder)
        make_files(work / "www")
        with nginx(work / "www", work / "nginx", keepalive_requests=100_000) as base:
            start_up(args.passes)
            large_page(base, args.passes)
            large_bucket()
            large_cart(work)
            small_files(base, work, args.passes)
            far_away(base, work / "far", args.passes)
            large_file(base, work, args.passes)
        print()
        outbox(work, args.passes)
        growing_ledger(work)
        large_ledger(work)
        large_audit(work, args.passes)


if __name__ == "__main__":
    main()
