"""Measure Willow Cart against scripts and floors that do the same work: `make bench`.

Every figure is a ratio of whole processes run in turn on this machine, so that it holds on others;
seconds are printed beside it. Takes half an hour and twenty gigabytes of disk; `--only WORD` names
rows.
"""

from __future__ import annotations

import argparse
import os
import platform
import random
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path

import psutil  # type: ignore[import-untyped]

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT))

from records import large_audit, large_bucket, large_cart, large_ledger, large_page  # noqa: E402
from rows import (  # noqa: E402
    Command,
    Row,
    compared,
    memory_of,
    new_folder,
    seconds_of,
    table_of,
    usage_of,
)  # fmt: skip

from tests.support.dask_cluster import DaskCluster  # noqa: E402
from tests.support.line import Weather, line  # noqa: E402
from tests.support.servers import SshServer, nginx, openssh, vsftpd  # noqa: E402

WILLOW_CART = [sys.executable, "-m", "willow_cart"]
PLAIN = [sys.executable, str(Path(__file__).parent / "plain.py")]
CERTIFICATE = ROOT / "tests/support/named.pem"

# How many files of which size in bytes, by the name of their folder.
FILES = {
    "small": (5_000, 8 << 10),
    "tiny": (50_000, 1 << 10),
    "mid": (10, 100 << 20),
    "large": (1, 1 << 30),
    "far": (200, 256 << 10),
    "longer": (1, 64 << 20),
}
LATENCY_SECONDS = 0.1
LINE_SPEED = 2e6
"""Bytes a second of one connection of the far line."""

ROWS_OF_A_TABLE = 100_000
TABLES = 10


class Bench:
    """The files and the servers, and a method for each group of rows.

    Args:
        work: a folder on the disk to measure.
        passes: how many rounds count.
        stack: ends the servers.
    """

    def __init__(self, work: Path, passes: int, stack: ExitStack) -> None:
        self.work = work
        self.passes = passes
        self._stack = stack
        self._root = work / "www"
        self._base = ""
        self._secure = ""

    def folder(self, name: str) -> str:
        """Return the address of a folder of files, which are made when they are asked for first."""
        there = self._root / name
        if not there.exists():
            there.mkdir(parents=True)
            rng = random.Random(name)
            files, size = FILES[name]
            for number in range(files):
                write_noise(there / f"{number:05}.bin", size, rng)
        if not self._base:
            server = nginx(self._root, self.work / "nginx", keepalive_requests=100_000)
            self._base = self._stack.enter_context(server)
        return f"{self._base}/{name}"

    def secure(self, name: str) -> str:
        """Return the address of a folder by HTTPS."""
        self.folder(name)
        if not self._secure:
            (self.work / "secure").mkdir()
            server = nginx(
                self._root, self.work / "secure", keepalive_requests=100_000,
                certificate=CERTIFICATE,
            )  # fmt: skip
            self._secure = self._stack.enter_context(server)
        return f"{self._secure}/{name}"

    def against(
        self,
        work: str,
        base: str,
        files: int,
        *,
        wanted: float,
        peer: str,
        env: dict[str, str] | None = None,
    ) -> Row:
        """Compare a haul of numbered files with a script of `plain.py`."""
        kind, told = peer.split(": ")
        return compared(
            work,
            lambda into: [
                *WILLOW_CART, "haul", f"{base}/{{00000..{files - 1:05}}}.bin", "--into", str(into),
            ],
            {told: lambda into: [*PLAIN, kind, base, f"{{:05d}}.bin*{files}", str(into)]},
            self.work,
            passes=self.passes,
            wanted=wanted,
            env=env,
        )  # fmt: skip

    def small(self) -> Iterator[Row]:
        """Many small files."""
        pool = "pool: requests in a pool of 8"
        yield self.against(
            "5,000 files of 8 KiB", self.folder("small"), 5000, wanted=0.30, peer=pool
        )
        trust = {"SSL_CERT_FILE": str(CERTIFICATE), "BENCH_TRUST": str(CERTIFICATE)}
        yield self.against(
            "2,000 files of 8 KiB by HTTPS",
            self.secure("small"),
            2000,
            wanted=0.4,
            peer=pool,
            env=trust,
        )
        yield self._growth()

    def _growth(self) -> Row:
        base = self.folder("tiny")
        each, memory = {}, 0.0
        for files in (5_000, 50_000):
            command = [*WILLOW_CART, "haul", f"{base}/{{00000..{files - 1:05}}}.bin", "--into"]
            each[files] = seconds_of([*command, str(new_folder(self.work))]) / files * 1e3
        memory = memory_of([*command, str(new_folder(self.work))])
        row = Row(
            "50,000 files of 1 KiB, time a file", f"{each[50_000]:.2f} ms",
            f"5,000 of them: {each[5_000]:.2f} ms", each[50_000] / each[5_000], 1.1,
        )  # fmt: skip
        print(f"{row.work}: {row.ratio:.2f}; all processes: {memory:.0f} MB (wanted: under 200)")
        return row

    def large(self) -> Iterator[Row]:
        """Files that cost hashing."""
        floor = "floor: receive, write and SHA-256 in two threads"
        yield self.against("ten files of 100 MiB", self.folder("mid"), 10, wanted=1.25, peer=floor)
        yield self.against("one file of 1 GiB", self.folder("large"), 1, wanted=1.15, peer=floor)

    def far(self) -> Iterator[Row]:
        """A server behind a long line."""
        self.folder("far")
        self.folder("longer")
        weather = Weather(latency=LATENCY_SECONDS, speed=LINE_SPEED)
        place = self._stack.enter_context(line(self._base, weather))
        pool = "pool: requests in a pool of 8"
        title = "200 files of 256 KiB, 100 ms, 2 MB/s a connection"
        yield self.against(title, f"{place}/far", 200, wanted=0.8, peer=pool)
        # A connection is made once; then the answer is waited for, and an eighth of the file comes.
        ideal = 2 * LATENCY_SECONDS + FILES["longer"][1] / LINE_SPEED / 8
        address = f"{place}/longer/00000.bin"
        haul = [*WILLOW_CART, "haul", address, "--as", "file", "--strands", "8", "--into"]
        seconds = min(seconds_of([*haul, str(new_folder(self.work))]) for _ in range(self.passes))
        yield Row(
            "64 MiB, same line, 8 strands", f"{seconds:.2f} s", f"the ideal: {ideal:.2f} s",
            seconds / ideal, 1.1,
        )  # fmt: skip

    def ftp(self) -> Iterator[Row]:
        """An FTP outbox."""
        root = self.work / "ftp"
        (root / "levels").mkdir(parents=True)
        for number in range(500):
            (root / "levels" / f"{number:04}.csv").write_bytes(b"%08d," % number * 910)
        base = self._stack.enter_context(vsftpd(root, self.work / "vsftpd"))
        yield compared(
            "500 FTP files of 8 KiB",
            lambda into: [*WILLOW_CART, "haul", f"{base}/levels/", "--into", str(into)],
            {"ftplib in 4 threads": lambda into: [*PLAIN, "ftp", base, "levels", str(into)]},
            self.work,
            passes=self.passes,
            wanted=1.2,
        )

    def sftp(self) -> Iterator[Row]:
        """An SFTP outbox."""
        server = self._stack.enter_context(openssh(self.work / "sshd"))
        many, one = self.work / "sftp" / "many", self.work / "sftp" / "one"
        for folder, files, size in ((many, 500, 8 << 10), (one, 1, 256 << 20)):
            folder.mkdir(parents=True)
            for number in range(files):
                write_noise(folder / f"{number:04}.csv", size, random.Random(number))
        known = ["--key", server.key, "--host-key", server.fingerprint]
        for work, folder, clients, wanted in (
            ("500 SFTP files of 8 KiB", many, 4, 2.0),
            ("one SFTP file of 256 MiB", one, 1, 1.25),
        ):
            yield compared(
                work,
                lambda into, folder=folder: [  # type: ignore[misc]
                    *WILLOW_CART, "haul", f"{server.base}{folder}/", *known, "--into", str(into),
                ],
                {f"OpenSSH's client, {clients} at a time": sftp_clients(server, folder, clients)},
                self.work,
                passes=self.passes,
                wanted=wanted,
            )  # fmt: skip

    def cluster(self) -> Iterator[Row]:
        """Small files by four workers of a cluster on this machine, and without it."""
        base = self.folder("small")
        files = FILES["small"][0]
        haul = [*WILLOW_CART, "haul", f"{base}/{{00000..{files - 1:05}}}.bin", "--into"]
        spent: dict[str, list[float]] = {"seconds": [], "processor": []}
        ours: dict[str, list[float]] = {"seconds": [], "processor": []}
        with DaskCluster(self.work / "dask") as dask:
            dask.add(4, threads=1)
            members = [psutil.Process(each.pid) for each in (*dask.workers, dask.scheduler)]
            for number in range(self.passes + 1):
                for told, words in ((ours, ["--cluster", dask.address]), (spent, [])):
                    before = sum(sum(each.cpu_times()[:2]) for each in members)
                    began = time.perf_counter()
                    usage = usage_of([*haul, new_folder(self.work), *words])
                    seconds = time.perf_counter() - began
                    theirs = sum(sum(each.cpu_times()[:2]) for each in members) - before
                    if number:
                        told["seconds"].append(seconds)
                        told["processor"].append(usage.ru_utime + usage.ru_stime + theirs)
        for kind, wanted in (("processor", 1.5), ("seconds", 1.0)):
            ratios = [a / b for a, b in zip(ours[kind], spent[kind], strict=True)]
            each, local = (1000 * statistics.median(x[kind]) / files for x in (ours, spent))
            yield Row(
                f"{files:,} files of 8 KiB by 4 workers of a cluster, {kind}",
                f"{each:.2f} ms a file", f"the same haul without: {local:.2f} ms a file",
                statistics.median(ratios), wanted,
            )  # fmt: skip

    def combine(self) -> Iterator[Row]:
        """A million rows of five columns, in ten texts."""
        folder = self.work / "tables"
        folder.mkdir()
        rng = random.Random(2031)
        for number in range(TABLES):
            with (folder / f"levels_{number:02}.csv").open("w", encoding="utf-8") as file:
                file.write("station,time,level,temperature,note\n")
                for row in range(ROWS_OF_A_TABLE):
                    day, minute = divmod(row, 1440)
                    note = rng.choice(["", "ok", "reeds cut", '"gauge moved, twice"'])
                    file.write(
                        f"S{rng.randrange(40):03},20{31 + number}-{day // 28 + 1:02}"
                        f"-{day % 28 + 1:02}T{minute // 60:02}:{minute % 60:02},"
                        f"{rng.gauss(2, 0.5):.3f},{rng.randrange(-50, 300)},{note}\n"
                    )
        for kind, form in (("Parquet", "parquet"), ("SQLite", "sqlite")):
            yield compared(
                f"combine 1,000,000 rows of 5 columns to {kind}",
                lambda into, form=form: [  # type: ignore[misc]
                    *WILLOW_CART, "combine", str(folder), "--to", str(into / f"all.{form}"),
                ],
                {"pandas": lambda into, form=form: [  # type: ignore[misc]
                    *PLAIN, "frames", str(folder), str(into / f"all.{form}"),
                ]},
                self.work,
                passes=self.passes,
                wanted=1.5,
            )  # fmt: skip

    def audit(self) -> Iterator[Row]:
        """Eight gigabytes at rest."""
        folder, size = large_audit(self.work)
        yield compared(
            f"audit of {size / 1e9:.0f} GB",
            lambda _: [*WILLOW_CART, "audit", str(folder)],
            {"hashing in memory": lambda _: [*PLAIN, "hash", str(size)]},
            self.work,
            passes=self.passes,
            wanted=1.1,
        )

    def start(self) -> Iterator[Row]:
        """How long a person waits for nothing."""
        python = sys.executable
        yield compared(
            "--help",
            lambda _: [*WILLOW_CART, "--help"],
            {"import argparse": lambda _: [python, "-c", "import argparse"]},
            self.work,
            passes=3 * self.passes,
            wanted=4,
        )
        address = f"{self.folder('small')}/00000.bin"
        opened = f"import urllib.request; urllib.request.urlopen('{address}').read()"
        yield compared(
            "haul of one small file",
            lambda into: [*WILLOW_CART, "haul", address, "--into", str(into)],
            {"urllib.request": lambda _: [python, "-c", opened]},
            self.work,
            passes=3 * self.passes,
            wanted=2,
        )

    def records(self) -> Iterator[Row]:
        """What grows with the number of files; printed, and no rows of the table."""
        large_page(self.work, self.folder, self.passes)
        large_bucket()
        large_cart(self.work)
        large_ledger(self.work)
        yield from ()


def write_noise(path: Path, size: int, rng: random.Random) -> None:
    """Write a file of random bytes."""
    with path.open("wb") as file:
        for at in range(0, size, 1 << 20):
            file.write(rng.randbytes(min(1 << 20, size - at)))


def sftp_clients(server: SshServer, folder: Path, clients: int) -> Command:
    """Return what fetches the files of a folder with some of OpenSSH's clients at a time."""
    known = Path(server.key).with_name("known")
    known.write_text(server.known)
    user = server.base.removeprefix("sftp://").partition("@")[0]
    options = f"-q -i {server.key} -P {server.port} -o UserKnownHostsFile={known}"

    def command(into: Path) -> list[str]:
        words = []
        for number in range(clients):
            batch = into.with_name(f"{into.name}.{number}")
            files = sorted(folder.iterdir())[number::clients]
            batch.write_text("".join(f"get {file} {into}/\n" for file in files))
            words.append(f"sftp -b {batch} {options} {user}@{server.host} &")
        return ["sh", "-c", " ".join([*words, "wait"])]

    return command


def processor() -> str:
    """The kind of machine, for the head of the table."""
    flags = Path("/proc/cpuinfo").read_text() if Path("/proc/cpuinfo").exists() else ""
    sha = "with" if "sha_ni" in flags else "without"
    return f"{os.cpu_count()} processors {sha} SHA instructions, Python {platform.python_version()}"


def main() -> None:
    """Measure what is asked for, and print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    groups = (
        "start",
        "small",
        "large",
        "far",
        "ftp",
        "sftp",
        "cluster",
        "combine",
        "audit",
        "records",
    )
    parser.add_argument("--only", action="append", choices=groups, help="measure this; repeatable")
    parser.add_argument("--passes", type=int, default=5)
    parser.add_argument("--folder", type=Path, help="where to work, on the disk to measure")
    args = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_NOFILE, (1024, 1024))
    rows: list[Row] = []
    with (
        tempfile.TemporaryDirectory(dir=args.folder, prefix="willow-cart-bench-") as folder,
        ExitStack() as stack,
    ):
        bench = Bench(Path(folder), args.passes, stack)
        for group in args.only or groups:
            measure: Callable[[], Iterator[Row]] = getattr(bench, group)
            rows += measure()
    print(f"\n{processor()}; medians of {args.passes} rounds\n\n{table_of(rows)}")


if __name__ == "__main__":
    try:
        main()
    except subprocess.CalledProcessError as error:
        sys.exit(f"{error.cmd[:4]} failed with {error.returncode}")
