"""What Willow Cart is measured against: the same work in plain scripts.

Files are fetched with a pool of 8 threads, or as fast as sockets go; every one is hashed and
written.
"""

from __future__ import annotations

import ftplib
import hashlib
import os
import socket
import sys
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue
from urllib.parse import urlsplit


def pool(base: str, names: str, into: str) -> None:
    """Fetch files with `requests` in a pool of 8 threads.

    Args:
        base: the address of their folder.
        names: a format for names, and how many there are, such as `{:04d}.csv*5000`.
        into: the folder to write into.
    """
    import requests

    form, _, files = names.partition("*")
    session = requests.Session()
    session.mount("https://", requests.adapters.HTTPAdapter(pool_maxsize=8))

    trust: str | bool = os.environ.get("BENCH_TRUST") or True

    def fetch(number: int) -> None:
        name = form.format(number)
        content = session.get(f"{base}/{name}", verify=trust).content
        hashlib.sha256(content).hexdigest()
        (Path(into) / name).write_bytes(content)

    with ThreadPoolExecutor(8) as lanes:
        list(lanes.map(fetch, range(int(files))))


def floor(base: str, names: str, into: str) -> None:
    """Receive, write and hash in two threads: half of the files each; of one file, one each."""
    form, _, files = names.partition("*")
    if int(files) == 1:
        _beside(f"{base}/{form.format(0)}", Path(into) / "0")
        return
    with ThreadPoolExecutor(2) as lanes:
        list(
            lanes.map(
                lambda n: _in_line(f"{base}/{form.format(n)}", Path(into) / str(n)),
                range(int(files)),
            )
        )


def _in_line(address: str, to: Path) -> None:
    digest = hashlib.sha256()
    _receive(address, to, digest.update)


def _beside(address: str, to: Path) -> None:
    """Hash in a second thread; a handful of pieces may wait for it."""
    pieces: SimpleQueue[bytes | None] = SimpleQueue()
    room = threading.Semaphore(8)

    def follow() -> None:
        digest = hashlib.sha256()
        while (piece := pieces.get()) is not None:
            digest.update(piece)
            room.release()

    def hand_over(piece: memoryview) -> None:
        room.acquire()
        pieces.put(bytes(piece))

    follower = threading.Thread(target=follow)
    follower.start()
    _receive(address, to, hand_over)
    pieces.put(None)
    follower.join()


def _receive(address: str, to: Path, take: Callable[[memoryview], None]) -> None:
    parts = urlsplit(address)
    assert parts.hostname
    with socket.create_connection((parts.hostname, parts.port or 80)) as line:
        line.sendall(f"GET {parts.path} HTTP/1.0\r\nHost: {parts.netloc}\r\n\r\n".encode())
        file = os.open(to, os.O_WRONLY | os.O_CREAT, 0o666)
        buffer = memoryview(bytearray(1 << 20))
        head = b""
        while b"\r\n\r\n" not in head:
            head += line.recv(1)
        while count := line.recv_into(buffer):
            os.write(file, buffer[:count])
            take(buffer[:count])
        os.close(file)


def ftp(base: str, folder: str, into: str) -> None:
    """Fetch the files of an FTP folder in four threads with a connection each."""
    parts = urlsplit(base)
    host, port = parts.hostname or "", parts.port or 21
    names: SimpleQueue[str | None] = SimpleQueue()

    def fetch() -> None:
        with ftplib.FTP() as there:
            there.connect(host, port)
            there.login()
            there.cwd(folder)
            while (name := names.get()) is not None:
                pieces: list[bytes] = []
                there.retrbinary(f"RETR {name}", pieces.append)
                content = b"".join(pieces)
                hashlib.sha256(content).hexdigest()
                (Path(into) / name).write_bytes(content)

    with ftplib.FTP() as there:
        there.connect(host, port)
        there.login()
        for name in there.nlst(folder):
            names.put(name.rpartition("/")[2])
    threads = [threading.Thread(target=fetch) for _ in range(4)]
    for thread in threads:
        names.put(None)
        thread.start()
    for thread in threads:
        thread.join()


def frames(folder: str, to: str, _: str = "") -> None:
    """Read tables with pandas, and write them as one."""
    import pandas as pd

    whole = pd.concat([pd.read_csv(path) for path in sorted(Path(folder).glob("*.csv"))])
    if to.endswith(".parquet"):
        whole.to_parquet(to, compression="zstd")
    else:
        import sqlite3

        with sqlite3.connect(to) as database:
            whole.to_sql("levels", database, index=False)


def hash_in_memory(size: str, _: str = "", __: str = "") -> None:
    """Hash so many bytes in memory on all processors."""
    processors = os.cpu_count() or 1
    block = bytes(256 << 10)

    def work(_: int) -> None:
        digest = hashlib.sha256()
        for _ in range(int(size) // processors // len(block)):
            digest.update(block)

    with ThreadPoolExecutor(processors) as lanes:
        list(lanes.map(work, range(processors)))


if __name__ == "__main__":
    scripts: dict[str, Callable[..., None]] = {
        "pool": pool, "floor": floor, "ftp": ftp, "frames": frames, "hash": hash_in_memory
    }  # fmt: skip
    scripts[sys.argv[1]](*sys.argv[2:])
