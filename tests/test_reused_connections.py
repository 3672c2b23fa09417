"""A connection carries a further request only if nothing is left of the last answer."""

from __future__ import annotations

import resource
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import files_in, run, sha256
from tests.support.raw_server import Answer, RawServer, Request, answer
from willow_cart.protocols import Download
from willow_cart.protocols.base import SmallRequest
from willow_cart.protocols.web import WebAccess

WRONG = b"HTTP/1.1 200 OK\r\nContent-Length: 11\r\n\r\nwrong,data\n"


def right(request: Request) -> bytes:
    return f"{request.target},1\n".encode()


def with_more(more: bytes) -> Callable[[Request], Answer]:
    """Answer, and send more bytes than the answer has."""
    return lambda request: Answer(answer(right(request)).raw + more)


def unasked(request: Request) -> Answer:
    return answer(right(request))  # a body after HEAD as well


def unchanged(request: Request) -> Answer:
    """Answer 304 with a body."""
    if "if-none-match" in request.fields:
        return answer(WRONG, "304 Not Modified", ETag='"1"')
    return answer(right(request), ETag='"1"')


def empty(request: Request) -> Answer:
    """Answer HEAD by 204 with a body."""
    return answer(b"x", "204 No Content") if request.method == "HEAD" else answer(right(request))


LEFTOVERS: dict[str, Callable[[Request], Answer]] = {
    "an answer": with_more(WRONG),
    "half an answer": with_more(WRONG[:20]),
    "text": with_more(b"goodbye"),
    "a line end": with_more(b"\r\n"),
    "a byte": with_more(b"\0"),
    "much": with_more(b"x" * 200_000),
    "a body after HEAD": unasked,
    "a body with 304": unchanged,
    "a body with 204": empty,
}


@pytest.mark.parametrize("lanes", ["1", "4"])
@pytest.mark.parametrize("left", LEFTOVERS)
def test_what_is_left_of_an_answer_is_never_read_as_the_next(
    tmp_path: Path, left: str, lanes: str
) -> None:
    with RawServer(LEFTOVERS[left]) as server:
        names = [f"f{number}.csv" for number in range(12)]
        (tmp_path / "l.txt").write_text("".join(f"{server.base}/{each}\n" for each in names))
        words = ["haul", "l.txt", "--into", "d", "--lanes", lanes]
        for more in ([], ["--ask-sizes"], []):
            done = run(*words, *more, cwd=tmp_path)
            assert (done.code, "failed" in done.err) == (0, False), done.err
            assert files_in(tmp_path / "d") == {each: f"/{each},1\n".encode() for each in names}


@pytest.mark.parametrize("instead", [b"", b"\r\n", b"garbage\r\n\r\n", b"HTTP/1.1 2", WRONG[:30]])
def test_a_request_on_a_used_connection_that_fails_is_sent_again_at_once(
    tmp_path: Path, instead: bytes
) -> None:
    seen: set[int] = set()
    lock = threading.Lock()

    def respond(request: Request) -> Answer:
        with lock:
            is_used = request.connection in seen
            seen.add(request.connection)
        return Answer(instead, closes=True) if is_used else answer(right(request))

    with RawServer(respond) as server:
        (tmp_path / "l.txt").write_text("".join(f"{server.base}/{n}.csv\n" for n in range(30)))
        # One attempt, and a pause that would be noticed: neither is used.
        done = run("haul", "l.txt", "--into", "d", "--lanes", "1", "--attempts", "1", "--pause",
                   "50", cwd=tmp_path)  # fmt: skip
        assert (done.code, done.err) == (0, "")
        assert len(files_in(tmp_path / "d")) == 30


@pytest.mark.parametrize("status", ["408 Request Timeout", "421 Misdirected Request"])
def test_a_server_that_wants_another_connection_gets_one(tmp_path: Path, status: str) -> None:
    seen: set[int] = set()

    def respond(request: Request) -> Answer:
        is_used = request.connection in seen
        seen.add(request.connection)
        return answer(status=status) if is_used else answer(right(request))

    with RawServer(respond) as server:
        (tmp_path / "l.txt").write_text("".join(f"{server.base}/{n}.csv\n" for n in range(9)))
        done = run("haul", "l.txt", "--into", "d", "--lanes", "1", "--attempts", "1", cwd=tmp_path)
        assert (done.code, done.err) == (0, "")


@given(st.lists(st.binary(max_size=40), min_size=6, max_size=6))
def test_whatever_follows_an_answer_belongs_to_no_other(leftovers: list[bytes]) -> None:

    def respond(request: Request) -> Answer:
        return Answer(answer(right(request)).raw + leftovers[int(request.target[1:]) % 6])

    with RawServer(respond) as server, WebAccess(stall_after=20) as web:
        for number in range(6):
            download = web.open(f"{server.base}/{number}")
            assert isinstance(download, Download)
            assert b"".join(iter(download.read, b"")) == f"/{number},1\n".encode()
            download.close()
        asked = [SmallRequest(f"{server.base}/{number}") for number in range(12)]
        for number, come in web.fetch_small(asked, 3, lambda: True):
            assert isinstance(come, Download)
            assert b"".join(iter(come.read, b"")) == f"/{number},1\n".encode()


def test_hauls_from_many_hosts_keep_few_connections(tmp_path: Path) -> None:
    with RawServer(lambda request: answer(right(request)), "0.0.0.0") as server:
        hosts = [f"127.0.{low}.{high}" for low in range(3) for high in range(1, 101)]
        lines = [f"http://{host}:{server.port}/{host}.csv" for host in hosts]
        (tmp_path / "l.txt").write_text("\n".join(lines))
        _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
        words = f"import resource, sys; resource.setrlimit(resource.RLIMIT_NOFILE, (128, {most}))"
        code = f"{words}; from willow_cart.cli.main import main; sys.exit(main(sys.argv[1:]))"

        done = subprocess.run(
            [sys.executable, "-c", code, "haul", "l.txt", "--into", "d", "--layout", "flat"],
            cwd=tmp_path, check=False, capture_output=True, text=True, timeout=240,
        )  # fmt: skip
        assert (done.returncode, done.stderr) == (0, "")
        assert len(files_in(tmp_path / "d")) == len(hosts)
        assert sha256(b"") not in {*map(sha256, files_in(tmp_path / "d").values())}


WAITS: dict[str, dict[str, Any]] = {
    "seconds": {"Retry_After": 3600},
    "many seconds": {"Retry_After": "9" * 40},
    "a date by the server's own clock": {
        "Retry_After": "Thu, 01 Jan 2026 01:00:00 GMT", "Date": "Thu, 01 Jan 2026 00:00:00 GMT",
    },
}  # fmt: skip


@pytest.mark.parametrize("how", WAITS)
@pytest.mark.parametrize("status", ["429 Too Many Requests", "503 Service Unavailable"])
def test_a_host_that_wants_a_long_wait_is_asked_for_nothing_more(
    tmp_path: Path, how: str, status: str
) -> None:
    with (
        RawServer(lambda _: answer(status=status, **WAITS[how])) as busy,
        RawServer(lambda request: answer(right(request)), "127.0.0.2") as good,
    ):
        places = [f"{each.base}/{n}.csv" for n in range(100) for each in (busy, good)]
        (tmp_path / "l.txt").write_text("\n".join(places))
        done = run("haul", "l.txt", "--into", "d", cwd=tmp_path)
        assert done.code == 1
        assert len(busy.requests) <= 4, "those that lanes had begun with"
        assert len(files_in(tmp_path / "d")) == 100
        (told,) = [line for line in done.err.splitlines() if "giving up on" in line]
        assert "asks for a wait of" in told
        assert "haul again after that" in told


def test_a_wait_that_ends_soon_by_the_servers_clock_is_waited_for(tmp_path: Path) -> None:
    clock: dict[str, Any] = {
        "Date": "Thu, 01 Jan 2026 00:00:00 GMT",
        "Retry_After": "Thu, 01 Jan 2026 00:00:01 GMT",
    }

    def respond(request: Request) -> Answer:
        is_first = request.number == 1
        return answer(status="503 Busy", **clock) if is_first else answer(right(request))

    with RawServer(respond) as server:
        done = run("haul", f"{server.base}/a.csv", "--into", "d", cwd=tmp_path)
        assert (done.code, len(server.requests)) == (0, 2)


def test_a_long_wait_ends_the_questions_to_a_host_too(tmp_path: Path) -> None:
    """Sizes, versions, and whether files are gone: each command asks as often as it has lanes."""
    is_shut = False

    def respond(request: Request) -> Answer:
        if is_shut:
            return answer(status="429 Too Many Requests", retry_after=3600)
        return answer(request.target.encode(), last_modified="Sun, 01 Jun 2031 06:00:00 GMT")

    with RawServer(respond) as server:
        (tmp_path / "l.txt").write_text("".join(f"{server.base}/{n}.csv\n" for n in range(100)))
        assert run("haul", "l.txt", "--into", "d", cwd=tmp_path).code == 0
        assert run("load", "l.txt", "--cart", "c.csv", cwd=tmp_path).code == 0
        is_shut = True
        for words in (
            ("weigh", "c.csv", "--ask-sizes"),
            ("survey", "l.txt", "--ask-sizes"),
            ("audit", "d", "--upstream"),
        ):
            server.requests.clear()
            told = run(*words, cwd=tmp_path)
            assert 1 <= len(server.requests) <= 16, words
            assert "429" in told.err + told.out
