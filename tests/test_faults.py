"""Every fault a server can have, by script: the exact bytes in the end, or the exact refusal."""

from __future__ import annotations

import gzip
import random
import shutil
import socket
import struct
import time
from collections import defaultdict
from collections.abc import Callable
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path

import pytest

from tests.support.program import files_in, run, start, wait_for_bytes
from willow_cart.demo.stand_in import Exhibit, SeenRequest, StandIn, StandInHandler

CONTENT = random.Random(5).randbytes(300_000)
NEWER = CONTENT[::-1]
TAG = '"1"'

Fault = Callable[[StandInHandler, int], None]


def whole(handler: StandInHandler, content: bytes = CONTENT, tag: str = TAG) -> None:
    handler.serve(Exhibit(content, tag))


def reset(handler: StandInHandler, count: int) -> None:
    """The connection is reset in mid-body; the rest comes when it is asked for."""
    if count:
        whole(handler)
        return
    handler.start(200, {"Content-Length": str(len(CONTENT)), "ETag": TAG})
    handler.wfile.write(CONTENT[:100_000])
    handler.connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    handler.close_connection = True
    handler.connection.close()


def drip(handler: StandInHandler, _: int) -> None:
    """A few bytes at a time, but always some."""
    handler.start(200, {"Content-Length": str(len(CONTENT)), "ETag": TAG})
    for at in range(0, len(CONTENT), 30_000):
        handler.wfile.write(CONTENT[at : at + 30_000])
        time.sleep(0.01)


def change(handler: StandInHandler, count: int) -> None:
    """Cut in mid-body; by the time the rest is asked for the file is another."""
    if count:
        whole(handler, NEWER, '"2"')
    else:
        cut(handler)


def cut(handler: StandInHandler, tag: str = TAG) -> None:
    handler.start(200, {"Content-Length": str(len(CONTENT)), "ETag": tag})
    handler.wfile.write(CONTENT[:100_000])
    handler.cut()


def part(handler: StandInHandler, first: int, last: int, body: bytes, tag: str = TAG) -> None:
    span = f"bytes {first}-{last}/{len(CONTENT)}"
    fields = {"Content-Range": span, "Content-Length": str(len(body)), "ETag": tag}
    handler.start(206, fields)
    handler.wfile.write(body)


def lie(handler: StandInHandler, count: int) -> None:
    """Sends another range than was asked for, and calls it by its right name."""
    if count == 0:
        cut(handler)
    elif "Range" in handler.headers:
        part(handler, 0, 99_999, CONTENT[:100_000])
    else:
        whole(handler)


def several(handler: StandInHandler, count: int) -> None:
    """Sends parts in a body of several parts, which nobody asked for."""
    if count == 0:
        cut(handler)
    elif "Range" in handler.headers:
        body = b"--x\r\nContent-Range: bytes 0-1/300000\r\n\r\nab\r\n--x--\r\n"
        media_type = "multipart/byteranges; boundary=x"
        handler.start(206, {"Content-Type": media_type, "Content-Length": str(len(body))})
        handler.wfile.write(body)
    else:
        whole(handler)


def shorter(handler: StandInHandler, count: int) -> None:
    """The file has become shorter than what is here: there is no such range (416)."""
    if count == 0:
        cut(handler)
    elif "Range" in handler.headers:
        handler.refuse(416, {"Content-Range": "bytes */50000"})
    else:
        whole(handler, CONTENT[:50_000], '"3"')


def complete(handler: StandInHandler, count: int) -> None:
    """Chunked, and cut right before its end; then there is nothing left to send (416)."""
    if count == 0:
        handler.start(200, {"Transfer-Encoding": "chunked", "ETag": TAG})
        handler.wfile.write(b"%x\r\n%s\r\n" % (len(CONTENT), CONTENT))
        handler.cut()
    else:
        handler.refuse(416, {"Content-Range": f"bytes */{len(CONTENT)}"})


def swell(handler: StandInHandler, _: int) -> None:
    """Two megabytes of nothing, packed into two kilobytes."""
    body = gzip.compress(bytes(2 << 20), 9)
    handler.start(200, {"Content-Encoding": "gzip", "Content-Length": str(len(body))})
    handler.wfile.write(body)


def circle(handler: StandInHandler, count: int) -> None:
    handler.refuse(302, {"Location": f"?{count % 2}"})


def busy(status: int, retry: Callable[[], str] | None = None) -> Fault:
    def answer(handler: StandInHandler, count: int) -> None:
        if count == 0:
            handler.refuse(status, {"Retry-After": retry()} if retry else {})
        else:
            whole(handler)

    return answer


def soon() -> str:
    """A date in the past counts as no wait at all."""
    return format_datetime(datetime.now(UTC) - timedelta(seconds=1), usegmt=True)


FAULTS: dict[str, tuple[Fault, bytes | str]] = {
    "reset": (reset, CONTENT),
    "drip": (drip, CONTENT),
    "change": (change, NEWER),
    "lie": (lie, CONTENT),
    "several": (several, CONTENT),
    "shorter": (shorter, CONTENT[:50_000]),
    "complete": (complete, CONTENT),
    "swell": (swell, "decompresses to more than 200 times the bytes received"),
    "circle": (circle, "redirect loop"),
    "408": (busy(408), CONTENT),
    "500": (busy(500), CONTENT),
    "503": (busy(503, soon), CONTENT),
    "429": (busy(429, lambda: "0"), CONTENT),
    "429-for-long": (
        busy(429, lambda: "90000"),
        "asks for a wait of 90000 s; haul again after that",
    ),
}


@pytest.mark.parametrize("strands", ["1", "4"])
def test_every_fault_ends_in_the_right_bytes_or_the_right_words(
    tmp_path: Path, strands: str
) -> None:
    counts: defaultdict[str, int] = defaultdict(int)

    def played(fault: Fault) -> Callable[[StandInHandler], None]:
        def script(handler: StandInHandler) -> None:
            path = handler.path.partition("?")[0]
            counts[path] += 1
            fault(handler, counts[path] - 1)

        return script

    requests: list[SeenRequest] = []
    with ExitStack() as stack:
        lines = []
        for name, (fault, _) in FAULTS.items():
            # Each from a host of its own: what one does is nothing to the others.
            exhibit = Exhibit(script=played(fault))
            paths = (f"{name}.wav", f"{name}.wav?0", f"{name}.wav?1")
            host = stack.enter_context(StandIn(dict.fromkeys(paths, exhibit)))
            host.requests = requests
            lines.append(f"{host.base}/{name}.wav\n")
        (tmp_path / "list.txt").write_text("".join(lines))
        outcome = run(
            "haul", "list.txt", "--into", "data", "--layout", "flat", "--pause", "0.02",
            "--strands", strands, cwd=tmp_path,
        )  # fmt: skip
    arrived = {f"{name}.wav": end for name, (_, end) in FAULTS.items() if isinstance(end, bytes)}
    assert files_in(tmp_path / "data") == arrived
    assert outcome.code == 1
    for name, (_, end) in FAULTS.items():
        if isinstance(end, str):
            assert any(f"{name}.wav" in line and end in line for line in outcome.err.splitlines())
    # What had arrived was not asked for again.
    ranges = {
        request.path.strip("/").partition(".")[0]: request.fields["range"]
        for request in requests
        if "range" in request.fields
    }
    assert ranges["reset"] == ranges["change"] == "bytes=100000-"
    assert ranges["complete"] == f"bytes={len(CONTENT)}-"
    assert list((tmp_path / "data" / ".willow" / "partial").iterdir()) == []


def test_a_destination_that_goes_away_is_told(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"{n}.wav": Exhibit(CONTENT, speed=3e5) for n in range(8)}
    (tmp_path / "list.txt").write_text("".join(f"{place.base}/{n}.wav\n" for n in range(8)))
    process = start("haul", "list.txt", "--into", "data", cwd=tmp_path)
    wait_for_bytes(tmp_path / "data", 50_000, process)
    shutil.move(tmp_path / "data", tmp_path / "unplugged")
    _, err = process.communicate(timeout=240)
    assert process.returncode == 1
    assert b"Traceback" not in err
    assert b"data" in err
    shutil.move(tmp_path / "unplugged", tmp_path / "data")
    for exhibit in place.exhibits.values():
        exhibit.speed = None
    assert run("haul", "list.txt", "--into", "data", cwd=tmp_path).code == 0
    assert files_in(tmp_path / "data") == {f"{n}.wav": CONTENT for n in range(8)}
