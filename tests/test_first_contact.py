"""The first contact with a place: one request for one file, in lanes, with the haul's patience."""

from __future__ import annotations

import socket
import threading
import time
from contextlib import suppress
from pathlib import Path

import pytest

from tests.support.program import files_in, run
from tests.support.servers import free_port
from willow_cart import haul
from willow_cart.demo.places import Outbox
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler

LEVELS = b"day,level\n2031-05-01,0.42\n" * 200
LARGE = bytes(range(256)) * 80_000


def csv(handler: StandInHandler, content: bytes = LEVELS) -> None:
    handler.start(200, {"Content-Type": "text/csv", "Content-Length": str(len(content))})
    handler.wfile.write(content)


@pytest.mark.parametrize("content", [b"x,1\n", LEVELS, LARGE], ids=["tiny", "small", "large"])
@pytest.mark.parametrize(
    "path", ["export", "get?id=3", "levels.php", "levels.xml", "x.bin", "report.html"]
)
def test_one_file_is_one_request_whatever_its_address_looks_like(
    tmp_path: Path, place: StandIn, path: str, content: bytes
) -> None:
    """The link works once: a second request would get nothing."""

    asked: list[str] = []

    def once(handler: StandInHandler) -> None:
        asked.append(handler.path)
        if len(asked) > 1:
            handler.refuse(403)
        else:
            csv(handler, content)

    place.exhibits[path] = Exhibit(script=once)
    outcome = run("haul", f"{place.base}/{path}", "--into", "x", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert [*files_in(tmp_path / "x").values()] == [content]
    assert len(asked) == 1


def test_a_second_run_asks_once_for_each_file_too(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["export"] = Exhibit(LEVELS, media_type="text/csv")
    for _ in range(2):
        outcome = run("haul", f"{place.base}/export", "--into", "x", cwd=tmp_path)
        assert outcome.code == 0
    assert [request.status for request in place.requests] == [200, 304]


def test_a_series_is_asked_what_it_is_once(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"get?id={n}": Exhibit(script=csv) for n in range(20)}
    outcome = run("haul", f"{place.base}/get?id={{0..19}}", "--into", "x", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert len(files_in(tmp_path / "x")) == 20
    assert sum(request.status == 200 for request in place.requests) == 20


def test_places_that_hang_hold_up_no_others(tmp_path: Path, place: StandIn) -> None:
    gone = threading.Event()
    reached = threading.Event()

    def hang(handler: StandInHandler) -> None:
        reached.wait(30)  # until the last one has been asked
        gone.wait(0.2)
        handler.refuse(503)

    def last(handler: StandInHandler) -> None:
        reached.set()
        csv(handler)

    with StandIn({f"slow{n}": Exhibit(script=hang) for n in range(3)}) as slow:
        place.exhibits["last"] = Exhibit(script=last)
        addresses = [*(f"{slow.base}/slow{n}" for n in range(3)), f"{place.base}/last"]
        outcome = run("haul", *addresses, "--into", "x", "--attempts", "1", cwd=tmp_path)
    gone.set()
    assert outcome.code == 1
    assert [*files_in(tmp_path / "x").values()] == [LEVELS]


def test_gaps_are_kept_by_the_look_and_from_the_first_request_on(
    tmp_path: Path, place: StandIn
) -> None:
    moments: list[float] = []

    def note(handler: StandInHandler) -> None:
        moments.append(time.monotonic())
        csv(handler)

    place.exhibits |= {f"export{n}": Exhibit(script=note) for n in range(3)}
    place.exhibits |= {f"{n}.csv": Exhibit(script=note) for n in range(3)}
    addresses = [f"{place.base}/{path}" for path in place.exhibits]
    outcome = run("haul", *addresses, "--into", "x", "--gap", "0.2", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert len(moments) == 6
    # Five gaps, less what a busy machine adds to the first; three would be 0.6.
    assert max(moments) - min(moments) > 0.7


def test_a_listing_that_drips_without_end_is_given_up(tmp_path: Path, place: StandIn) -> None:
    gone = threading.Event()

    def drip(handler: StandInHandler) -> None:
        handler.start(200, {"Content-Type": "text/html"})
        with suppress(OSError):
            while not gone.wait(0.02):
                handler.wfile.write(b" ")
        handler.close_connection = True

    place.exhibits["levels/"] = Exhibit(script=drip)
    limits = ["--time-per-file", "0.5", "--attempts", "2", "--pause", "0.01"]
    outcome = run("haul", f"{place.base}/levels/", "--into", "x", *limits, cwd=tmp_path)
    gone.set()
    assert outcome.code == 1
    assert "not complete after 0.5 s" in outcome.err


class Down:
    """A port at which a server starts once it has been asked for in vain."""

    def __init__(self, port: int) -> None:
        self._listener = socket.create_server(("127.0.0.1", port))
        self.asked = threading.Event()
        self._thread = threading.Thread(target=self._refuse, daemon=True)
        self._thread.start()

    def _refuse(self) -> None:
        for _ in range(3):
            self._listener.accept()[0].close()
        self._listener.close()
        self.asked.set()


@pytest.mark.parametrize("what", ["folder", "file"])
def test_a_web_place_that_comes_back_is_outlived(tmp_path: Path, what: str) -> None:
    port = free_port()
    down = Down(port)
    path = "levels/" if what == "folder" else "export"
    args = ["haul", f"http://127.0.0.1:{port}/{path}", "--into", "x", "--attempts", "50",
            "--pause", "0.2"]  # fmt: skip
    done: list[object] = []
    thread = threading.Thread(target=lambda: done.append(run(*args, cwd=tmp_path)))
    thread.start()
    assert down.asked.wait(30)
    exhibits = {"levels/a.csv": Exhibit(LEVELS), "export": Exhibit(script=csv)}
    with StandIn(exhibits, port=port):
        thread.join()
    assert [*files_in(tmp_path / "x").values()] == [LEVELS]
    assert "retrying in" in done[0].err  # type: ignore[attr-defined]


def test_an_ftp_place_that_comes_back_is_outlived(tmp_path: Path) -> None:
    (tmp_path / "outbox").mkdir()
    (tmp_path / "outbox" / "a.csv").write_bytes(LEVELS)
    port = free_port()
    down = Down(port)
    args = ["haul", f"ftp://127.0.0.1:{port}/", "--into", "x", "--attempts", "50", "--pause", "0.2"]
    thread = threading.Thread(target=lambda: run(*args, cwd=tmp_path))
    thread.start()
    assert down.asked.wait(30)
    with Outbox(tmp_path / "outbox", port):
        thread.join()
    assert files_in(tmp_path / "x") == {"a.csv": LEVELS}


def test_an_interrupted_haul_leaves_no_thread_and_the_next_goes_on_from_the_byte(
    tmp_path: Path, place: StandIn
) -> None:
    """In one process, as in a notebook; the server has fallen silent in the middle of the file."""
    released = threading.Event()
    half = len(LARGE) // 2

    def silent(handler: StandInHandler) -> None:
        if "Range" in handler.headers:
            handler.serve(Exhibit(LARGE, '"1"'))
            return
        handler.start(200, {"Content-Length": str(len(LARGE)), "ETag": '"1"'})
        handler.wfile.write(LARGE[:half])
        handler.wfile.flush()
        released.wait(30)

    place.exhibits["dawn.wav"] = Exhibit(script=silent)
    into = tmp_path / "x"
    before = set(threading.enumerate())

    def interrupt() -> None:
        import _thread

        deadline = time.monotonic() + 240
        partial = into / ".willow" / "partial"
        while time.monotonic() < deadline:
            if partial.is_dir() and any(p.stat().st_size >= half for p in partial.iterdir()):
                break
            time.sleep(0.02)
        _thread.interrupt_main()

    waiter = threading.Thread(target=interrupt)
    waiter.start()
    address = f"{place.base}/dawn.wav"
    began = time.monotonic()
    with pytest.raises(KeyboardInterrupt):
        haul(address, into=into)
    assert time.monotonic() - began < 25, "what waits for bytes is ended"
    waiter.join()
    left = {each for each in set(threading.enumerate()) - before if "StandIn" not in repr(each)}
    assert not {each for each in left if each.name.startswith(("lane", "commit_thread"))}
    again = haul(address, into=into)
    released.set()
    assert files_in(into) == {"dawn.wav": LARGE}
    assert again.receipt.rows[0].resumed >= half
