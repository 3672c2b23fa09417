"""Files from an FTP outbox, and hauls into a ledger that grows: `make bench` prints the ratios."""

from __future__ import annotations

import ftplib
import hashlib
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from queue import SimpleQueue

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.support.servers import nginx, vsftpd

FTP_FILES = 500
FTP_SIZE = 8 * 1024
FEW, MANY = 5_000, 50_000
TINY_SIZE = 1024
WILLOW_CART = [sys.executable, "-m", "willow_cart"]


def ftp_script(host: str, port: int, into: Path) -> None:
    """Fetch, hash and write every file, in four threads with a connection each."""
    names: SimpleQueue[str | None] = SimpleQueue()

    def fetch() -> None:
        with ftplib.FTP() as ftp:
            ftp.connect(host, port)
            ftp.login()
            ftp.cwd("levels")
            while (name := names.get()) is not None:
                pieces: list[bytes] = []
                ftp.retrbinary(f"RETR {name}", pieces.append)
                content = b"".join(pieces)
                hashlib.sha256(content).hexdigest()
                (into / name).write_bytes(content)

    with ftplib.FTP() as ftp:
        ftp.connect(host, port)
        ftp.login()
        for name in ftp.nlst("levels"):
            names.put(name.rpartition("/")[2])
    threads = [threading.Thread(target=fetch) for _ in range(4)]
    for thread in threads:
        names.put(None)
        thread.start()
    for thread in threads:
        thread.join()


def timed(command: Sequence[str | Path]) -> float:
    """Run a command and return its seconds."""
    began = time.perf_counter()
    subprocess.run(list(map(str, command)), check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began


def outbox(work: Path, passes: int) -> None:
    """500 files of 8 KiB from vsftpd, against a script with ftplib in four threads."""
    root = work / "ftp"
    (root / "levels").mkdir(parents=True)
    for number in range(FTP_FILES):
        (root / "levels" / f"{number:04}.csv").write_bytes(b"%08d," % number * (FTP_SIZE // 9))
    ratios = []
    with vsftpd(root, work / "vsftpd") as base:
        port = base.rpartition(":")[2]
        for number in range(passes + 1):
            ours = timed([*WILLOW_CART, "haul", f"{base}/levels/", "--into", work / f"f{number}"])
            into = work / f"s{number}"
            into.mkdir()
            theirs = timed([sys.executable, __file__, "127.0.0.1", port, into])
            if number:
                ratios.append(ours / theirs)
                print(f"  willow-cart {ours:6.2f} s, ftplib in 4 threads {theirs:6.2f} s")
    print(f"FTP, {FTP_FILES} files of 8 KiB: {statistics.median(ratios):.2f} times the script"
          " (wanted: at most 1.3)")  # fmt: skip


def growing_ledger(work: Path) -> None:
    """Time a file at 5,000 and at 50,000 files of 1 KiB."""
    root = work / "tiny"
    root.mkdir()
    for number in range(MANY):
        (root / f"{number:05}.csv").write_bytes(b"%08d," % number * (TINY_SIZE // 9))
    each = {}
    with nginx(root, work / "tiny-nginx", keepalive_requests=100_000) as base:
        for files in (FEW, MANY):
            addresses = f"{base}/{{00000..{files - 1:05}}}.csv"
            into = work / f"tiny-{files}"
            each[files] = timed([*WILLOW_CART, "haul", addresses, "--into", into]) / files
            print(f"  {files:6,} files of 1 KiB: {each[files] * 1e3:.2f} ms a file")
    print(f"time a file, 50,000 to 5,000: {each[MANY] / each[FEW]:.2f} (wanted: at most 1.15)")


if __name__ == "__main__":
    ftp_script(sys.argv[1], int(sys.argv[2]), Path(sys.argv[3]))
