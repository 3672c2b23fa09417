"""The haul's policies, without a network, a thread or a clock."""

from __future__ import annotations

import ast
from collections import Counter
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import willow_cart
from willow_cart.choosing import Choosing
from willow_cart.errors import (
    ConnectionLost,
    Exit,
    HostUnknown,
    NotServed,
    NotTrusted,
    ServerBusy,
    TimedOut,
    TransientError,
    WrongContent,
)
from willow_cart.hauling.summary import HaulSummary
from willow_cart.model import Offer, State
from willow_cart.options.groups import PatienceOptions, Unknown
from willow_cart.progress import Gauge, TimeLeft
from willow_cart.protocols import Cause, Failure, GiveUp, Retrier, Retry, RetryPolicy
from willow_cart.transfer.host_queue import HostQueue, HostRate, QueueWait
from willow_cart.transfer.rates import ConcurrencyController
from willow_cart.units import format_duration, format_size, parse_size


def test_pauses_grow_and_end() -> None:
    retry_policy = RetryPolicy(attempts=4, pause=1.0, growth=3.0, longest=5.0)
    assert [
        retry_policy.pause_after(consecutive_failures, None, 0.5)
        for consecutive_failures in range(6)
    ] == [1, 1, 3, 5, None, None]


def busy(status: int, wait: float | None = None, most: int | None = None) -> ServerBusy:
    return ServerBusy("x", "is busy", status=status, wait=wait, most=most)


@pytest.mark.parametrize(
    ("failure", "cause", "decision"),
    [
        (Failure(TimedOut("x", "silent"), 1), Cause.HOST, Retry(1.0)),
        (Failure(TimedOut("x", "silent"), 2), Cause.HOST, Retry(2.0)),
        (Failure(TimedOut("x", "silent"), 0), Cause.FILE, Retry(1.0)),
        (Failure(TimedOut("x", "silent"), 5), Cause.HOST, GiveUp.ATTEMPTS),
        (Failure(ConnectionLost("x", "lost"), 1), Cause.HOST, Retry(1.0)),
        (Failure(ConnectionLost("x", "lost"), 1, has_company=True), Cause.CROWDING, Retry(1.0)),
        (Failure(ConnectionLost("x", "lost"), 1, 2, has_company=True), Cause.HOST, Retry(1.0)),
        (Failure(busy(429, 7), 1), Cause.CROWDING, Retry(7)),
        (Failure(busy(429, 7), 1, 20), Cause.HOST, Retry(7)),
        (Failure(busy(429), 1), Cause.HOST, Retry(1.0)),
        (Failure(busy(429), 1, served=3), Cause.CROWDING, Retry(1.0)),
        (Failure(busy(500), 1, served=3), Cause.HOST, Retry(1.0)),
        (Failure(busy(421, most=1), 1), Cause.CROWDING, Retry(1.0)),
        (Failure(busy(503, 301), 1), Cause.CROWDING, GiveUp.WAIT),
        (Failure(HostUnknown("x", "unknown"), 1), Cause.HOST, GiveUp.PERMANENT),
        (Failure(NotTrusted("x", "expired"), 1), Cause.HOST, GiveUp.PERMANENT),
        (Failure(NotServed("x", "404", status=404), 1), Cause.FILE, GiveUp.PERMANENT),
        (Failure(WrongContent("x", "wrong", "look"), 1), Cause.FILE, GiveUp.PERMANENT),
    ],
)  # fmt: skip
def test_what_becomes_of_a_failure_is_decided_by_its_facts(
    failure: Failure, cause: Cause, decision: Retry | GiveUp
) -> None:
    assert (failure.cause, RetryPolicy().decide(failure, 0.5)) == (cause, decision)


def test_pauses_are_spread_so_that_lanes_do_not_come_back_at_once() -> None:
    spread = {RetryPolicy().pause_after(1, None, random_value) for random_value in (0.0, 0.5, 1.0)}
    assert spread == {0.75, 1.0, 1.25}


def test_what_the_server_asks_for_is_kept_to_or_given_up() -> None:
    retry_policy = RetryPolicy(longest_wait=120)
    assert retry_policy.pause_after(1, 100.0, 0.9) == 100
    assert retry_policy.pause_after(1, 121.0, 0.9) is None


def test_persisting_ends_with_success_or_with_the_last_error() -> None:
    slept: list[float] = []
    outcomes: list[str | TransientError] = [
        TransientError("a", "busy", wait=7),
        TransientError("a", "gone"),
        "here",
    ]

    def attempt() -> str:
        outcome = outcomes.pop(0)
        if isinstance(outcome, TransientError):
            raise outcome
        return outcome

    told: list[float] = []
    retrier = Retrier(
        RetryPolicy(), slept.append, lambda _, pause: told.append(pause), random_value=lambda: 0.5
    )
    assert retrier.run(attempt) == "here"
    assert told == slept
    assert slept == [7, 2]
    outcomes[:] = [TransientError("a", "first"), TransientError("a", "second")]
    with pytest.raises(TransientError, match="second"):
        retrier.run(attempt, RetryPolicy(attempts=2))
    outcomes[:] = [TransientError("a", "first"), "here"]
    with pytest.raises(TransientError, match="first"):
        Retrier(wait=lambda _: True).run(attempt)  # the person wants to stop


def test_hosts_take_turns_within_their_lanes() -> None:
    queue = HostQueue([("a", 1), ("a", 2), ("a", 3), ("b", 4)], lanes_per_host=2)
    assert queue.most_at_once == 3
    assert [queue.take(0) for _ in range(3)] == [("a", 1), ("b", 4), ("a", 2)]
    assert queue.take(0) == QueueWait(None)
    queue.finish("b")
    assert queue.take(0) == QueueWait(None)
    queue.finish("a")
    assert queue.take(0) == ("a", 3)
    queue.finish("a")
    queue.finish("a")
    assert queue.take(0) is None


def test_what_is_put_off_comes_up_in_its_time_before_the_untried() -> None:
    queue = HostQueue([("a", 1), ("a", 2)], lanes_per_host=1)
    assert queue.take(0) == ("a", 1)
    queue.postpone("a", 1, until=5)
    assert queue.take(0) == ("a", 2)
    queue.postpone("a", 2, until=3)
    assert queue.take(1) == QueueWait(2)
    assert queue.take(6) == ("a", 1)


def test_a_host_that_wants_to_be_left_alone_is_and_the_others_go_on() -> None:
    queue = HostQueue([("a", 1), ("b", 2)], lanes_per_host=4)
    queue.pause_until("a", until=10)
    assert queue.take(0) == ("b", 2)
    queue.finish("b")
    assert queue.take(4) == QueueWait(6)
    assert queue.take(10) == ("a", 1)


@given(
    st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 2)), max_size=30), st.integers(1, 4)
)
def test_everything_is_taken_in_the_end_and_no_host_has_too_many_lanes(
    items: list[tuple[str, int]], lanes_per_host: int
) -> None:
    """Each item is put off as often as its number says, then finished."""
    queue = HostQueue(((host, [host, times]) for host, times in items), lanes_per_host)
    now, finished = 0.0, 0
    out: list[tuple[str, list[object]]] = []
    while (taken := queue.take(now)) is not None:
        if isinstance(taken, QueueWait):
            if out:
                host, item = out.pop(0)
                if item[1]:
                    item[1] -= 1  # type: ignore[operator]
                    queue.postpone(host, item, now + 1)
                else:
                    queue.finish(host)
                    finished += 1
            else:
                assert taken.seconds is not None, "nothing is out and nothing will come up"
                now += taken.seconds
            continue
        out.append(taken)
        assert Counter(host for host, _ in out).most_common(1)[0][1] <= lanes_per_host
    assert finished == len(items)


def measure(share: float, files: int, size: int, times: int = 5) -> int:
    """The lanes that are open after some ticks of the same kind."""
    concurrency = ConcurrencyController(8, 4, now=0.0, used=0.0)
    for tick in range(1, times + 1):
        concurrency.measure(tick * 0.1, tick * 0.1 * share, files * tick, files * tick * size)
    return concurrency.lanes


def test_lanes_are_opened_while_they_pay() -> None:
    assert measure(share=0.2, files=10, size=8192) == 8, "a slow line has all of them"
    assert measure(share=1.0, files=10, size=8192) == 1, "small files on a fast line want one"
    assert measure(share=1.0, files=10, size=10_000_000) == 8, "large files are the line's affair"
    assert measure(share=3.5, files=10, size=10_000_000) == 1, "unless all processors are busy"
    assert measure(share=1.0, files=0, size=0) == 8, "nothing that comes crowds nobody"
    assert measure(share=0.2, files=10, size=8192, times=1) == 2


@pytest.mark.parametrize(
    ("counts", "interrupted", "code"),
    [
        ({}, False, Exit.GOOD),
        ({State.ARRIVED: 1, State.UNCHANGED: 1, State.HERE: 1}, False, Exit.GOOD),
        ({State.ARRIVED: 1, State.FAILED: 1}, False, Exit.INCOMPLETE),
        ({State.FAILED: 1, State.REFUSED: 1}, False, Exit.CHECK_FAILED),
        ({State.REFUSED: 1}, True, Exit.INTERRUPTED),
    ],
)
def test_the_exit_code_tells_the_gravest(
    counts: dict[State, int], interrupted: bool, code: int
) -> None:
    account = HaulSummary(1, 3, counts=Counter(counts), interrupted=interrupted)
    assert account.exit_code == code


@pytest.mark.parametrize(
    ("count", "text"),
    [(0, "0 B"), (999, "999 B"), (1000, "1.00 kB"), (12_345, "12.3 kB"), (999_499, "999 kB"),
     (999_500, "1.00 MB"), (40 * 10**9, "40.0 GB"), (10**18, "1000 PB")],
)  # fmt: skip
def test_sizes_are_written_with_three_figures(count: int, text: str) -> None:
    assert format_size(count) == text


def test_sizes_are_read_as_people_write_them() -> None:
    written = ["512", "10MB", "1.5 GiB", "2k", "1 tb"]
    assert [parse_size(text) for text in written] == [512, 10**7, 3 * 2**29, 2000, 10**12]


def test_durations_are_written_in_what_matters() -> None:
    assert [format_duration(s) for s in (0.04, 9.9, 12, 200, 7500)] == [
        "0.0 s", "9.9 s", "12 s", "3 min 20 s", "2 h 05 min",
    ]  # fmt: skip


def test_the_gauge_tells_the_speed_of_the_last_seconds() -> None:
    gauge = Gauge(0.0)
    for second in range(1, 31):
        speed = gauge.measure(second, 100 * second if second <= 20 else 2000 + 10 * (second - 20))
    assert speed == pytest.approx(10.0)


def test_the_time_left_is_never_absurd() -> None:
    left = TimeLeft(0.0)
    assert left.measure(0.0, (0, 100), (0, 10_000)) is None
    assert left.measure(5.0, (0, 100), (0, 10_000)) is None, "nothing is known yet"
    # Ten of a hundred small files, and a large one that has not begun.
    few = left.measure(10.0, (10, 100), (100, 1_000_000_000))
    assert few is not None
    assert few < 10_000
    # Then nothing for a minute: the rest does not look like years.
    for second in range(11, 70):
        few = left.measure(float(second), (10, 100), (100, 1_000_000_000))
    assert few is None or few < 3 * 86400
    assert left.measure(80.0, (100, 100), (1_000_000_000, 1_000_000_000)) == 0.0
    small = TimeLeft(0.0)
    small.measure(0.0, (0, 1000), (0, None))
    by_files = small.measure(10.0, (100, 1000), (500, None))
    assert by_files == pytest.approx(90.0, rel=0.3)


def test_what_was_here_before_did_not_come_at_any_pace() -> None:
    left = TimeLeft(0.0)
    left.measure(0.0, (50, 100), (500, 1000))
    assert left.measure(10.0, (60, 100), (600, 1000)) == pytest.approx(40.0, rel=0.3)


def test_a_rate_settles_at_what_a_host_takes() -> None:
    """The host allows 40 requests a second with bursts of ten, and asks to wait a second."""
    rate, tokens, now, last, taken, settled = HostRate(), 10.0, 0.0, 0.0, 0, 0
    while now < 100.0:
        tokens = min(10.0, tokens + 40 * (now - last))
        last = now
        if tokens >= 1:
            tokens -= 1
            taken += 1
            settled += now > 25.0
            rate.took(now)
            pause = 1.0 / (rate.rate(now) or 500.0)
        else:
            rate.busy(now, 1.0)
            pause = 1.0
        now += pause
    assert settled / 75.0 > 0.9 * 40


def test_a_long_wait_that_a_host_asks_for_leaves_the_learnt_rate() -> None:
    rate = HostRate()
    for n in range(20):
        rate.took(n / 10)
    rate.busy(2.0, 600.0)
    assert (rate.rate(603.0) or 0.0) < 40


def test_a_host_that_was_busy_for_a_while_is_soon_asked_as_fast_as_before() -> None:
    """A minute in which every other request is too many, at whatever rate; then none is."""
    rate, now, asked = HostRate(), 0.0, 0
    while now < 60.0:
        asked += 1
        if asked % 2:
            rate.took(now)
        else:
            rate.busy(now, None)
        now += 1.0 / (rate.rate(now) or 500.0)
    assert (rate.rate(now) or 0.0) < 1.0
    served = 0
    while now < 160.0:
        rate.took(now)
        served += 1
        now += 1.0 / (rate.rate(now) or 500.0)
    assert served > 1000


def test_the_state_of_a_transfer_is_changed_by_its_own_methods_alone() -> None:
    source = Path(willow_cart.__file__).parent
    outside = [
        f"{path.relative_to(source)}:{node.lineno}"
        for path in source.rglob("*.py")
        if path.name != "transfers.py"
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Attribute)
        and isinstance(node.ctx, ast.Store | ast.Del)
        and ast.unparse(node.value).rpartition(".")[2] == "transfer"
    ]
    assert outside == []


def test_a_host_is_left_alone_for_longer_than_a_file_unless_the_pause_is_fixed() -> None:
    assert RetryPolicy().host_pause_after(1, 0.5) == 30.0
    fixed = RetryPolicy(pause=60.0, growth=1.0, longest=60.0)
    assert [fixed.host_pause_after(times, 0.5) for times in (1, 2, 4, 5)] == [60, 60, 60, None]


def test_a_given_pause_is_kept_exactly() -> None:
    policy = RetryPolicy.of(PatienceOptions(pause=60.0, attempts=9))
    assert {policy.pause_after(failures, None, chance) for failures in (1, 4, 8)
            for chance in (0.0, 0.5, 1.0)} == {60.0}  # fmt: skip


@given(st.integers(1, 10**9), st.integers(0, 10**6), st.integers(1, 10**9))
def test_a_rounded_size_decides_wherever_it_cannot_be_wrong(
    about: int, within: int, limit: int
) -> None:
    offer = Offer("http://h.example/a", about=about, about_within=within)
    drop = Choosing(at_most=limit, unsized=Unknown.DROP).choose([offer])
    keep = Choosing(at_most=limit, unsized=Unknown.KEEP).choose([offer])
    is_unsure = abs(about - (limit + 1)) <= within
    assert bool(keep.kept) is (is_unsure or about <= limit)
    assert bool(drop.kept) is (not is_unsure and about <= limit)
    assert (keep.unsized, drop.unsized) == (is_unsure, is_unsure)
