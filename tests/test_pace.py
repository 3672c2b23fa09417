"""Politeness, limits and presence: policies by themselves, and hauls against a difficult server."""

from __future__ import annotations

import gzip
import json
import threading
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.errors import BadOption, ProtocolError, TimedOut, TookTooLong
from willow_cart.options.groups import PaceOptions
from willow_cart.transfer.host_queue import HostQueue, QueueWait
from willow_cart.transfer.rates import Meter, SpeedCap, require_progress, require_size
from willow_cart.units import parse_seconds


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(1, 10**6)), max_size=40))
def test_no_lanes_get_more_than_the_cap_together(asks: list[tuple[int, int]]) -> None:
    """Lanes ask after waits of their own; each pauses as it is told."""
    now = [0.0]
    cap = SpeedCap(100_000, lambda: now[0])
    came = 0
    latest = 0.0
    for waited, count in asks:
        now[0] += waited
        came += count
        latest = max(latest, now[0] + cap.pause_after(count))
        assert latest >= came / 100_000 - 1e-6, "by then so much may have come, and no more"
        assert latest <= now[0] + came / 100_000 + 1e-6, "nobody waits longer than for all bytes"


def test_gaps_are_as_long_as_asked_for_and_shy_ones_vary() -> None:
    for pace, gaps in (
        (PaceOptions(gap=2.0), [2, 2, 2]),
        (PaceOptions(one_by_one=True), [1, 2, 3]),
        (PaceOptions(gap=8.0, one_by_one=True), [4, 8, 12]),
    ):
        assert [pace.gap_after(random_value) for random_value in (0.0, 0.5, 1.0)] == gaps


def test_what_is_slow_large_or_long_is_not_put_up_with() -> None:
    limits = PaceOptions(largest=1000, slowest=100, time_per_file=60.0)
    require_size(limits, "a", 1000)
    require_progress(limits, "a", 0, 10.0)
    require_progress(limits, "a", 2000, 20.0)
    with pytest.raises(ProtocolError, match=r"is larger than 1\.00 kB"):
        require_size(limits, "a", 1001)
    with pytest.raises(TimedOut, match="arrives at 50 B/s, too slowly"):
        require_progress(limits, "a", 1000, 20.0)
    with pytest.raises(TookTooLong, match="has taken longer than 1 min 00 s"):
        require_progress(limits, "a", 10**9, 60.1)
    require_progress(PaceOptions(), "a", 0, 1e9)


def test_what_waits_by_our_own_wish_is_not_called_slow() -> None:
    now, waited = [0.0], []

    def wait(seconds: float) -> None:
        waited.append(seconds)
        now[0] += seconds

    def clock() -> float:
        return now[0]

    meter = Meter("a", PaceOptions(slowest=1000), SpeedCap(10, clock), wait, clock)
    for size in range(500, 5000, 500):
        meter.count(500, size, is_whole=False)
    assert sum(waited) == pytest.approx(450)
    now[0] += 30
    meter.count(1, 5000, is_whole=True)
    with pytest.raises(TimedOut):
        meter.count(1, 5000, is_whole=False)


@pytest.mark.parametrize(
    ("text", "seconds"), [("90", 90), ("0.5s", 0.5), ("5min", 300), ("2 h", 7200), ("1d", 86400)]
)
def test_times_are_read_with_units(text: str, seconds: float) -> None:
    assert parse_seconds(text) == seconds


@pytest.mark.parametrize("text", ["", "soon", "-1", "5 weeks", "1e9", "nan"])
def test_what_is_no_time_is_said(text: str) -> None:
    with pytest.raises(BadOption, match="not a duration"):
        parse_seconds(text)


# The docket's part


def test_a_busy_host_has_half_the_lanes_and_gets_them_back_one_by_one() -> None:
    queue = HostQueue([("a", n) for n in range(200)], lanes_per_host=4)
    for _ in range(4):
        queue.take(0)
    for number in range(4):  # all four lanes hear that it is busy; it is halved once
        queue.slow_down("a", 0)
        queue.postpone("a", number, until=0)
    assert [isinstance(queue.take(1), QueueWait) for _ in range(3)] == [False, False, True]
    lanes = 2
    for _ in range(2 * 20):
        queue.record_success("a", 0.0)
        queue.finish("a")
        assert not isinstance(queue.take(1), QueueWait)
    while not isinstance(queue.take(1), QueueWait):
        lanes += 1
    assert lanes == 4


def test_a_lane_comes_back_after_a_quiet_while_too() -> None:
    queue = HostQueue([("a", n) for n in range(20)], lanes_per_host=2)
    queue.take(0)
    queue.slow_down("a", 0)
    assert isinstance(queue.take(19), QueueWait)
    assert queue.take(20) == ("a", 1)
    assert isinstance(queue.take(99), QueueWait), "and no more than there were"


def test_a_host_that_fails_again_and_again_comes_last() -> None:
    queue = HostQueue([("a", 1), ("a", 2), ("b", 3)], lanes_per_host=1)
    assert queue.take(0) == ("a", 1)
    queue.postpone("a", 1, until=0.5)
    assert [queue.record_failure("a", 0.0) for _ in range(10)] == [0] * 9 + [1]
    queue.suspend("a", until=5)
    assert queue.take(1) == ("b", 3)
    assert queue.take(1) == QueueWait(4)
    queue.finish("b")
    assert queue.take(2) == QueueWait(3), "it is not its time yet"
    assert queue.take(5) == ("a", 1)
    assert [queue.record_failure("a", 0.0) for _ in range(10)][-1] == 2
    assert queue.give_up("a") == [2]
    queue.finish("a")
    assert queue.take(9) is None


def test_one_good_answer_makes_up_for_all_the_bad_ones() -> None:
    queue = HostQueue([("a", 1)], lanes_per_host=1)
    for _ in range(9):
        queue.record_failure("a", 0.0)
    queue.record_success("a", 0.0)
    assert [queue.record_failure("a", 0.0) for _ in range(10)][-1] == 1, "it is counted anew"


# Hauls


def test_gaps_are_kept_between_starts_at_a_host(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"{n}.csv": Exhibit(b"x") for n in range(4)}
    began = time.monotonic()
    source = f"{place.base}/{{0..3}}.csv"
    outcome = run("haul", source, "--into", "x", "--gap", "0.2s", cwd=tmp_path)
    assert outcome.code == 0
    assert time.monotonic() - began >= 3 * 0.2
    shy = run("haul", f"{place.base}/0.csv", "--into", "y", "--one-by-one", cwd=tmp_path)
    assert shy.code == 0


def test_a_host_that_is_down_does_not_hold_up_the_others_and_is_told_in_one_line(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {f"{n}.csv": Exhibit(b"x", refusals=[(503, {})] * 50) for n in range(30)}
    with StandIn({f"{n}.csv": Exhibit(b"good") for n in range(3)}) as good:
        lines = [f"{place.base}/{{0..29}}.csv", f"{good.base}/{{0..2}}.csv"]
        (tmp_path / "list.txt").write_text("\n".join(lines))
        pace = ["--attempts", "2", "--pause", "0.01", "--log", "log.jsonl"]
        outcome = run("haul", "list.txt", "--into", "x", *pace, cwd=tmp_path)
    assert outcome.code == 1
    assert outcome.last_line.startswith("33 offered, 33 chosen: 3 arrived, 30 fail")
    host = place.base.removeprefix("http://")
    assert f"{host} keeps failing (503" in outcome.err
    assert f"giving up on {host}, " in outcome.err
    assert len(place.requests) < 40, "most are not even asked for"
    told = [line for line in outcome.err.splitlines() if "failed:" in line]
    assert len(told) < 20

    events = [json.loads(line) for line in (tmp_path / "log.jsonl").read_text().splitlines()]
    names = [event["event"] for event in events]
    assert (names[0], names[-1]) == ("planned", "ended")
    assert names.count("settled") == 33
    assert {"started", "postponed", "host_suspended", "host_given_up"} <= set(names)
    assert events[-1]["counts"] == {"arrived": 3, "failed": 30}
    failed = [event for event in events if event.get("state") == "failed"]
    assert any("gave up on its host" in event["reason"] for event in failed)


def test_a_host_that_comes_back_is_hauled_from(tmp_path: Path, place: StandIn) -> None:
    """It is down for many answers in a row; no file is given up for that."""
    down = [14]

    def answer(handler: StandInHandler) -> None:
        down[0] -= 1
        status = 503 if down[0] >= 0 else 200
        handler.send_response(status)
        handler.send_header("Content-Length", "1")
        handler.end_headers()
        handler.wfile.write(b"x")

    place.exhibits |= {f"{n}.csv": Exhibit(script=answer) for n in range(12)}
    pace = ["--attempts", "6", "--pause", "0.05"]
    outcome = run("haul", f"{place.base}/{{0..11}}.csv", "--into", "x", *pace, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert len(files_in(tmp_path / "x")) == 12


def test_the_files_of_a_host_that_is_given_up_come_from_their_mirrors(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {f"{n}.csv": Exhibit(b"x", refusals=[(503, {})] * 50) for n in range(30)}
    with StandIn({f"{n}.csv": Exhibit(b"good") for n in range(30)}) as mirror:
        rows = "".join(f"{place.base}/{n}.csv {mirror.base}/{n}.csv\n" for n in range(30))
        (tmp_path / "c.csv").write_text(f"url\n{rows}")
        pace = ["--attempts", "2", "--pause", "0.01"]
        outcome = run("haul", "c.csv", "--into", "x", *pace, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert set(files_in(tmp_path / "x").values()) == {b"good"}
    assert len(files_in(tmp_path / "x")) == 30
    assert "giving up" not in outcome.err, "nothing is lost with it"
    assert len(place.requests) < 40


def test_a_line_that_breaks_but_brings_something_is_nobody_s_fault(
    tmp_path: Path, place: StandIn
) -> None:
    """Breaks enough to set a host aside, if they counted."""
    content = bytes(range(256)) * 1000
    place.exhibits |= {f"{n}.bin": Exhibit(content, breaks=[20_000] * 6) for n in range(3)}
    pace = ["--attempts", "1", "--pause", "0.01"]
    outcome = run("haul", f"{place.base}/{{0..2}}.bin", "--into", "x", *pace, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert "set aside" not in outcome.err
    assert set(files_in(tmp_path / "x").values()) == {content}


def test_files_that_are_too_large_or_take_too_long_are_refused_in_time(
    tmp_path: Path, place: StandIn
) -> None:
    def endless(handler: StandInHandler) -> None:
        handler.send_response(200)
        handler.end_headers()
        while True:
            handler.wfile.write(b"x" * 65536)

    place.exhibits |= {
        "announced.bin": Exhibit(b"x" * 3000),
        "endless.bin": Exhibit(script=endless),
        "small.bin": Exhibit(b"x" * 1000),
    }
    source = f"{place.base}/{{announced,endless,small}}.bin"
    outcome = run("haul", source, "--into", "x", "--largest", "2000", cwd=tmp_path)
    assert outcome.code == 1
    assert files_in(tmp_path / "x") == {"small.bin": b"x" * 1000}
    assert outcome.err.count("is larger than 2.00 kB; use a larger --largest") == 2
    assert not list((tmp_path / "x" / ".willow" / "partial").iterdir())

    place.exhibits["slow.bin"] = Exhibit(b"y" * 800_000, speed=400_000)
    slow = ["haul", f"{place.base}/slow.bin", "--into", "x"]
    outcome = run(*slow, "--time-per-file", "0.5s", cwd=tmp_path)
    assert outcome.code == 1
    assert "has taken longer than 0.5 s; the part that arrived is kept" in outcome.err
    again = run(*slow, cwd=tmp_path)
    assert again.code == 0
    assert "resuming at" in again.err
    assert files_in(tmp_path / "x")["slow.bin"] == b"y" * 800_000


def test_what_stalls_is_tried_again(tmp_path: Path, place: StandIn) -> None:
    first = [True]

    def stall(handler: StandInHandler) -> None:
        handler.send_response(200)
        handler.send_header("Content-Length", "5")
        handler.end_headers()
        if first.pop() if first else False:
            handler.wfile.flush()
            handler.rfile.read(1)  # until the other side has had enough
        handler.wfile.write(b"level")

    place.exhibits["a.csv"] = Exhibit(script=stall)
    pace = ["--stall-after", "0.3s", "--pause", "0.01"]
    outcome = run("haul", f"{place.base}/a.csv", "--into", "x", *pace, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert "retrying in" in outcome.err
    assert files_in(tmp_path / "x") == {"a.csv": b"level"}


def test_what_lies_here_is_kept_replaced_or_a_failure_as_asked_for(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {"a.csv": Exhibit(b"first"), "mine.csv": Exhibit(b"theirs")}
    haul = ["haul", f"{place.base}/{{a,mine}}.csv", "--into", "x"]
    (tmp_path / "x").mkdir()
    (tmp_path / "x" / "mine.csv").write_bytes(b"mine")

    def counts(existing_files: str) -> str:
        place.requests.clear()
        outcome = run(*haul, "--if-present", existing_files, cwd=tmp_path)
        return outcome.last_line.partition(" (")[0].partition(": ")[2]

    assert counts("fail") == "1 arrived, 1 failed"
    assert len(place.requests) == 1
    assert counts("keep") == "all already here"
    assert not place.requests, "nobody is asked"
    assert files_in(tmp_path / "x") == {"a.csv": b"first", "mine.csv": b"mine"}
    assert counts("replace") == "1 arrived, 1 already here"
    assert [each.status for each in place.requests] == [200, 200], "no condition was made"
    assert files_in(tmp_path / "x")["mine.csv"] == b"theirs"
    (kept,) = (tmp_path / "x" / ".willow" / "aside").rglob("mine.csv")
    assert kept.read_bytes() == b"mine"
    assert counts("renew") == "all unchanged"


def test_the_ledger_says_what_was_decoded(tmp_path: Path, place: StandIn) -> None:
    content = b"time,level\n" * 400

    def coded(handler: StandInHandler) -> None:
        body = gzip.compress(content)
        handler.send_response(200)
        handler.send_header("Content-Encoding", "gzip")
        handler.send_header("Content-Length", str(len(body)))
        handler.end_headers()
        handler.wfile.write(body)

    place.exhibits |= {"a.csv": Exhibit(script=coded), "b.csv": Exhibit(b"plain")}
    assert run("haul", f"{place.base}/{{a,b}}.csv", "--into", "x", cwd=tmp_path).code == 0
    assert files_in(tmp_path / "x") == {"a.csv": content, "b.csv": b"plain"}
    rows = run("receipt", "x", "--json", cwd=tmp_path).json()["files"]
    assert [(row["size"], row["decoded"]) for row in rows] == [(4400, "gzip"), (5, "")]


def test_no_file_fails_of_a_host_that_takes_so_many_requests_a_second(
    tmp_path: Path, place: StandIn
) -> None:
    tokens, last, lock = [10.0], [time.monotonic()], threading.Lock()

    def limited(handler: StandInHandler) -> None:
        with lock:
            now = time.monotonic()
            tokens[0] = min(10.0, tokens[0] + 100 * (now - last[0]))
            last[0] = now
            allowed = tokens[0] >= 1
            tokens[0] -= allowed
        if allowed:
            handler.serve(Exhibit(b"x"))
        else:
            handler.refuse(429, {"Retry-After": "0"})

    place.exhibits |= {f"{n:03}.csv": Exhibit(script=limited) for n in range(300)}
    outcome = run("haul", f"{place.base}/{{000..299}}.csv", "--into", "x", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert len(files_in(tmp_path / "x")) == 300
    assert outcome.err.count("is busy") == 1, "told once for the host"
    refused = sum(request.status == 429 for request in place.requests)
    assert refused < 100, "the haul has learnt"


def test_connections_that_are_dropped_beside_others_are_crowding(
    tmp_path: Path, place: StandIn
) -> None:
    """The server resets all but two of the connections that it has."""
    inside, lock = [0], threading.Lock()

    def crowded(handler: StandInHandler) -> None:
        with lock:
            inside[0] += 1
            many = inside[0] > 2
        time.sleep(0.02)
        with lock:
            inside[0] -= 1
        if many:
            handler.cut()
        else:
            handler.serve(Exhibit(b"x"))

    place.exhibits |= {f"{n:03}.csv": Exhibit(script=crowded) for n in range(80)}
    outcome = run(
        "haul", f"{place.base}/{{000..079}}.csv", "--into", "x", "--pause", "0.02", cwd=tmp_path
    )
    assert outcome.code == 0, outcome.err
    assert len(files_in(tmp_path / "x")) == 80


def test_one_address_that_always_fails_does_not_slow_down_its_host(
    tmp_path: Path, place: StandIn
) -> None:
    asked = []

    def broken(handler: StandInHandler) -> None:
        asked.append(handler.path)
        handler.cut()

    def slow(handler: StandInHandler) -> None:
        time.sleep(0.01)
        handler.serve(Exhibit(b"x"))

    place.exhibits |= {f"{n:03}.csv": Exhibit(script=slow) for n in range(300)}
    place.exhibits["000.csv"] = Exhibit(script=broken)
    outcome = run(
        "haul", f"{place.base}/{{000..299}}.csv", "--into", "x", "--pause", "0.01", cwd=tmp_path
    )
    assert outcome.code == 1
    assert len(files_in(tmp_path / "x")) == 299
    assert len(asked) <= 12
