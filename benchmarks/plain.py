"""What Willow Cart is measured against: the same work in plain scripts.

`raw ADDRESS DIR` receives over a bare socket and writes; `hash BYTES DIR` hashes so many bytes in
memory; `many BASE DIR` fetches, writes and hashes many files as such scripts are usually written.
"""

from __future__ import annotations

import hashlib
import os
import socket
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from urllib.parse import urlsplit


def raw(address: str, into: Path) -> None:
    parts = urlsplit(address)
    assert parts.hostname
    with socket.create_connection((parts.hostname, parts.port or 80)) as line:
        line.sendall(f"GET {parts.path} HTTP/1.0\r\nHost: {parts.netloc}\r\n\r\n".encode())
        file = os.open(into / "large.bin", os.O_WRONLY | os.O_CREAT, 0o666)
        buffer = memoryview(bytearray(1 << 20))
        head = b""
        while b"\r\n\r\n" not in head:
            head += line.recv(1)
        while count := line.recv_into(buffer):
            os.write(file, buffer[:count])
        os.close(file)


def hash_in_memory(size: int) -> None:
    digest = hashlib.sha256()
    piece = os.urandom(1 << 20)
    for _ in range(size >> 20):
        digest.update(piece)


def many(base: str, into: Path) -> None:
    import requests

    session = requests.Session()

    def fetch(number: int) -> None:
        content = session.get(f"{base}/small/{number:04d}.csv").content
        hashlib.sha256(content).hexdigest()
        (into / f"{number:04d}.csv").write_bytes(content)

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(fetch, range(5000)))


if __name__ == "__main__":
    what, argument, folder = sys.argv[1:]
    Path(folder).mkdir(parents=True)
    match what:
        case "raw":
            raw(argument, Path(folder))
        case "hash":
            hash_in_memory(int(argument))
        case "many":
            many(argument, Path(folder))
