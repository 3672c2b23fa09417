"""Lanes at a host: as many as make a haul faster, on hosts of many kinds and in a real haul."""

from __future__ import annotations

import heapq
import json
import threading
from collections.abc import Callable
from itertools import count, pairwise
from pathlib import Path

import pytest

from tests.support.program import run
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.transfer.host_queue import HostQueue
from willow_cart.transfer.rates import LaneFinder

MB = 1_000_000
TICK = 0.05


def simulate(
    seconds_for: Callable[[int], float],
    size: int = 256 * 1024,
    *,
    most: int | None = 16,
    until: float = 20.0,
    busy_above: int = 99,
) -> list[tuple[float, int]]:
    """Haul from a host in simulated time; return when its number of lanes changed, and to what.

    Args:
        seconds_for: how long a lane takes for a file while so many lanes are in use.
        size: of a file in bytes.
        most: how many lanes the host may have.
        until: the seconds that are simulated.
        busy_above: so many requests at a time the host serves; to more it answers 429.
    """
    queue = HostQueue((("h", n) for n in range(100_000)), 8, most)
    going: list[tuple[float, int, float]] = []
    received, now, number, changes = 0, 0.0, 0, []
    while now < until:
        while going and going[0][0] <= now:
            end, _, began = heapq.heappop(going)
            if len(going) >= busy_above:
                queue.slow_down("h", end)
            else:
                received += size
                queue.record_success("h", end)
                queue.record_duration("h", began, end, size)
            queue.finish("h")
        while queue.has_lane("h", now) and isinstance(queue.take(now), tuple):
            number += 1
            heapq.heappush(going, (now + seconds_for(len(going) + 1), number, now))
        changes += [(now, lanes) for _, lanes in queue.find_lanes(now, {"h": received}, lanes=16)]
        now += TICK
    return changes


def behind_a_line(lanes: int, *, together: float, size: int = 256 * 1024) -> float:
    """Return the seconds for a file after 100 ms, at 2 MB/s each and a speed for all together."""
    return 0.1 + size / min(2 * MB, together / lanes)


def test_a_host_that_serves_each_lane_as_well_gets_all_of_them_in_a_few_seconds() -> None:
    changes = simulate(lambda lanes: behind_a_line(lanes, together=1e9))
    assert [lanes for _, lanes in changes] == [16]
    assert changes[-1][0] < 1


@pytest.mark.parametrize("full", [9, 10, 11])
def test_a_line_that_is_full_gets_no_more_lanes(full: int) -> None:
    changes = simulate(lambda lanes: behind_a_line(lanes, together=full * 2 * MB), until=60)
    numbers = [lanes for _, lanes in changes]
    assert full <= numbers[-1] <= full + 2
    doubled = next(n for n, lanes in enumerate(numbers) if lanes < numbers[n - 1])
    assert all(abs(each - before) == 1 for before, each in pairwise(numbers[doubled:]))
    assert max(numbers[doubled:]) <= full + 3


def test_a_busy_moment_does_not_end_the_search() -> None:
    files = count()
    changes = simulate(lambda _: 0.6 if 20 <= next(files) < 70 else 0.2)
    numbers = [lanes for _, lanes in changes]
    assert numbers != sorted(numbers), "a lane was given back"
    assert numbers[-1] == 16


def test_large_files_are_judged_by_their_bytes() -> None:
    finder = LaneFinder(4, 16)
    received = 0.0
    for tick in range(int(60 / TICK)):
        received += TICK * min(finder.lanes * 2 * MB, 14 * MB)
        finder.measure(tick * TICK, int(received), may_grow=True)
    assert finder.lanes in (7, 8)


def test_a_host_that_is_used_up_by_the_first_lanes_keeps_these() -> None:
    changes = simulate(lambda n: behind_a_line(n, together=4 * MB), until=14)
    assert [lanes for _, lanes in changes][:2] == [16, 8], "twice as many bring nothing"
    assert max(lanes for _, lanes in changes[1:]) <= 10


def test_a_host_that_says_that_it_is_busy_gets_fewer_at_once_and_never_so_many_again() -> None:
    changes = simulate(lambda _: 0.2, until=90, busy_above=12)
    at = next(index for index, (_, lanes) in enumerate(changes) if lanes < changes[index - 1][1])
    most = changes[at - 1][1]
    assert changes[at][1] == 8
    assert all(lanes < most for _, lanes in changes[at:])


def test_what_a_host_allows_by_its_own_account_is_not_exceeded() -> None:
    finder = LaneFinder(4, 16)
    finder.lanes = 9
    finder.strained(0, at_most=6)
    assert finder.lanes == 6
    finder.strained(0, at_most=2)
    assert finder.lanes == 4, "the queue keeps to fewer until the host allows more"


def test_a_fixed_number_is_kept() -> None:
    assert simulate(lambda _: 0.2, most=None) == []


def test_no_lane_is_opened_that_there_is_no_work_for() -> None:
    queue = HostQueue((("h", n) for n in range(4)), 4, 16)
    while isinstance(queue.take(0), tuple):
        pass
    told = [queue.find_lanes(second, {"h": second * MB}, lanes=16) for second in range(20)]
    assert not any(told)


@pytest.mark.parametrize("options", [[], ["--lanes-per-host", "4"]])
def test_lanes_are_found_in_a_haul_and_told_in_its_log(tmp_path: Path, options: list[str]) -> None:
    """Each answer takes a while, whatever else is asked."""
    at_once, most = set[int](), [0]
    lock = threading.Lock()

    def answer(handler: StandInHandler) -> None:
        with lock:
            at_once.add(threading.get_ident())
            most[0] = max(most[0], len(at_once))
        threading.Event().wait(0.1)
        with lock:
            at_once.discard(threading.get_ident())
        handler.send_response(200)
        handler.send_header("Content-Length", "1")
        handler.end_headers()
        handler.wfile.write(b"x")

    with StandIn({f"{n}.csv": Exhibit(script=answer) for n in range(150)}) as place:
        outcome = run(
            "haul", f"{place.base}/{{0..149}}.csv", "--as", "file", "--into", "x",
            "--log", "log.jsonl", *options, cwd=tmp_path,
        )  # fmt: skip
    assert outcome.code == 0, outcome.err
    events = [json.loads(line) for line in (tmp_path / "log.jsonl").read_text().splitlines()]
    found = [event["lanes"] for event in events if event["event"] == "lanes_changed"]
    if options:
        assert (found, most[0]) == ([], 4)
    else:
        assert found[0] == 16
        assert most[0] > 8
