"""The lanes of a haul and its commit thread, with fakes, a stepping clock and no network."""

from __future__ import annotations

import sqlite3
import threading
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from itertools import count
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest
from msgspec.structs import replace

from willow_cart.destination import Destination
from willow_cart.errors import (
    CannotStore,
    HostUnknown,
    NotServed,
    ServerBusy,
    TimedOut,
    WillowCartError,
)
from willow_cart.events import HostGivenUp, Notice, Postponed, SwitchedMirror
from willow_cart.filing import Layout, make_plan
from willow_cart.ledger.entries import Arrival, Result, timestamp
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.model import Checksum, Offer, Origin, State
from willow_cart.observer import Observer
from willow_cart.offer_store import OfferStore
from willow_cart.options.groups import PaceOptions
from willow_cart.protocols.fake import FakeAccess
from willow_cart.transfer.commit import CommitThread, Note, VerifiedFile
from willow_cart.transfer.executor import BatchRule, Executor, Outcome
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.host_queue import HostQueue, QueueWait
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.transfers import Transfer, Transfers
from willow_cart.transfer.worker_pool import WorkerPool

Script = Callable[[Transfer], None]
"""Makes an attempt: raises what goes wrong with it."""

POLICY = HaulPolicy(pace=PaceOptions(attempts=3, pause=0.001))


class ColumnSummary(Observer):
    """Keeps what the pool tells of hosts and files."""

    def __init__(self) -> None:
        self.events: Counter[str] = Counter()

    def note(self, event: Notice) -> None:
        match event:
            case Postponed():
                self.events["postponed"] += 1
            case SwitchedMirror():
                self.events["turned"] += 1
            case HostGivenUp(host, _, files):
                self.events[f"given up {host}"] += files


class Bench:
    """A pool with attempts from a script, and what it has committed."""

    def __init__(self, offers: Sequence[Offer], attempt: Script, policy: HaulPolicy) -> None:
        plan = make_plan(OfferStore(offers), Layout.HOST, None)
        self.results: list[Result] = []
        self.attempts: Counter[str] = Counter()
        self.told = ColumnSummary()
        self.stop = threading.Event()
        self._script = attempt
        self.transfers = Transfers(plan)
        self.access = FakeAccess({}, ahead=4)
        self.queue: HostQueue[int] = HostQueue(
            ((host, number) for host, those in plan.new.items() for number in those), 4
        )
        downloader = SimpleNamespace(
            policy=policy, observer=self.told, stop=self.stop, commit_thread=self,
            access=self.access, close=lambda: None, discard=lambda _transfer: None,
        )  # fmt: skip
        self.file_transfer = cast(
            "FileTransfer",
            SimpleNamespace(
                downloader=downloader, attempt=self.attempt, use_next_mirror=Transfer.next_mirror
            ),
        )

    def attempt(self, transfer: Transfer, _lane: int, _came: object = None) -> Result:
        self.attempts[transfer.address] += 1
        transfer.begin_attempt()
        try:
            self._script(transfer)
        except WillowCartError:
            transfer.failed(gained=False)
            raise
        return transfer.result(State.ARRIVED)

    def take(self, result: Result) -> None:
        self.results.append(result)
        self.transfers.settle(result.number)

    def work(self, **how: Any) -> Counter[State]:
        WorkerPool(
            self.file_transfer,
            self.queue,
            self.transfers,
            cast("CommitThread", self),
            random_value=lambda: 0.5,
            **how,
        ).work()
        return Counter(result.state for result in self.results)


def offers_of(number: int, host: str = "h") -> list[Offer]:
    return [Offer(f"http://{host}.example/{n}.csv") for n in range(number)]


def test_each_file_is_attempted_once_and_settled_once() -> None:
    bench = Bench(offers_of(50), lambda _: None, POLICY)
    assert bench.work() == {State.ARRIVED: 50}
    assert set(bench.attempts.values()) == {1}
    assert sorted(result.number for result in bench.results) == [*range(1, 51)]


def test_small_files_are_requested_ahead_in_groups_and_each_of_them_once() -> None:
    small = [replace(offer, size=8192) for offer in offers_of(41)]
    odd = [replace(small[7], size=1 << 20), replace(small[8], size=None),
           replace(small[9], checksums=(Checksum("sha256", "0" * 64, Origin.LIST),))]  # fmt: skip
    bench = Bench([*small[:7], *odd, *small[10:]], lambda _: None, POLICY)
    assert bench.work() == {State.ARRIVED: 41}
    ahead = [address for group in bench.access.opened_ahead for address in group]
    assert len(ahead) == len(set(ahead))
    assert {len(group) for group in bench.access.opened_ahead} <= {0, 1, 2, 3, 4}
    # Several lanes take the first ones; then, each is in flight before its turn.
    assert {offer.address for offer in [*small[4:7], *small[10:]]} <= {*ahead}
    assert not {offer.address for offer in odd} & {*ahead}


def test_nothing_is_requested_ahead_of_a_busy_host_or_of_one_that_is_not_to_be_hurried() -> None:
    small = [replace(offer, size=8192) for offer in offers_of(20)]
    slow = ({"lanes": 1}, {"lanes_per_host": 1}, {"gap": 0.001}, {"speed_cap": 1 << 30})
    for pace in slow:
        policy = replace(POLICY, pace=replace(POLICY.pace, **pace))
        bench = Bench(small, lambda _: None, policy)
        assert bench.work() == {State.ARRIVED: 20}
        assert not any(bench.access.opened_ahead)

    def attempt(transfer: Transfer) -> None:
        if transfer.number <= 2 and transfer.attempts == 1:
            raise ServerBusy(transfer.shown, "429", status=429, wait=0.001)

    bench = Bench(
        small, attempt, replace(POLICY, pace=replace(POLICY.pace, lanes=2, lanes_per_host=2))
    )
    assert bench.work() == {State.ARRIVED: 20}
    assert sum(map(len, bench.access.opened_ahead)) <= 4, "it was busy from its first file on"


def test_what_may_pass_is_retried_and_then_given_up() -> None:
    def attempt(transfer: Transfer) -> None:
        if "/3." in transfer.address:
            raise TimedOut(transfer.shown, "no data")
        if "/4." in transfer.address and transfer.attempts < 3:
            raise TimedOut(transfer.shown, "no data")
        if "/5." in transfer.address:
            raise NotServed(transfer.shown, "404", status=404)

    bench = Bench(offers_of(8), attempt, POLICY)
    assert bench.work() == {State.ARRIVED: 6, State.FAILED: 2}
    tries = {address[-5]: times for address, times in bench.attempts.items() if times > 1}
    assert tries == {"3": 3, "4": 3}
    assert bench.told.events["postponed"] == 4
    assert "3 times in a row" in next(r.reason for r in bench.results if "/3." in r.address)


def test_a_host_that_is_not_known_is_given_up_with_all_its_files() -> None:
    def attempt(transfer: Transfer) -> None:
        if "gone" in transfer.address:
            raise HostUnknown(transfer.shown, "unknown host")

    bench = Bench([*offers_of(40, "gone"), *offers_of(5)], attempt, POLICY)
    assert bench.work() == {State.FAILED: 40, State.ARRIVED: 5}
    asked = sum(times for address, times in bench.attempts.items() if "gone" in address)
    assert asked < 40
    assert bench.told.events["given up gone.example"] == 40 - asked


def test_a_mirror_is_asked_for_what_its_address_does_not_have_but_not_for_room() -> None:
    def attempt(transfer: Transfer) -> None:
        if "full" in transfer.offer.address:
            raise CannotStore(transfer.filed.path, "the disk is full", "make room")
        if "first" in transfer.address:
            raise NotServed(transfer.shown, "404", status=404)

    mirror = ("http://second.example/x.csv",)
    offers = [Offer("http://first.example/x.csv", mirrors=mirror),
              Offer("http://full.example/x.csv", mirrors=mirror)]  # fmt: skip
    bench = Bench(offers, attempt, POLICY)
    assert bench.work() == {State.ARRIVED: 1, State.FAILED: 1}
    assert bench.told.events["turned"] == 1


def test_a_busy_host_is_asked_for_less_and_its_files_are_not_blamed() -> None:
    numbers = count(1)

    def attempt(transfer: Transfer) -> None:
        if (number := next(numbers)) % 3 == 0 and number < 12:
            raise ServerBusy(transfer.shown, "429", status=429, wait=0.001)

    bench = Bench(offers_of(30), attempt, POLICY)
    assert bench.work() == {State.ARRIVED: 30}


def test_a_stop_leaves_the_rest_in_the_queue() -> None:
    bench = Bench(offers_of(100), lambda _: None, POLICY)
    bench._script = lambda transfer: bench.stop.set() if transfer.number >= 5 else None
    assert 1 <= bench.work()[State.ARRIVED] < 100


def test_a_fault_of_our_own_ends_the_pool_with_it() -> None:
    bench = Bench(offers_of(5), lambda _: None, POLICY)

    def fail(result: Result) -> None:
        raise sqlite3.Error("no")

    bench.take = fail  # type: ignore[method-assign]
    with pytest.raises(sqlite3.Error, match="no"):
        bench.work()


class Half(Executor):
    """Carries the first half of every batch, and begins no more than that."""

    batches = BatchRule(8)

    def __init__(self) -> None:
        self.carried: list[int] = []
        self.begun = threading.Event()
        self.closed = False

    def carry(
        self, transfers: Sequence[Transfer], lane: int, at_once: int = 1
    ) -> list[tuple[Transfer, Outcome]]:
        self.begun.set()
        begun = transfers[: max(1, len(transfers) // 2)]
        self.carried += [transfer.number for transfer in begun]
        return [(transfer, transfer.result(State.ARRIVED)) for transfer in begun]

    def close(self) -> None:
        self.closed = True


def test_what_is_not_begun_of_a_batch_goes_back() -> None:
    further = Half()

    def attempt(transfer: Transfer) -> None:
        if transfer.number > 4:
            further.begun.wait(20)

    bench = Bench(offers_of(400), attempt, POLICY)
    assert bench.work(further=[further]) == {State.ARRIVED: 400}
    assert sorted(result.number for result in bench.results) == [*range(1, 401)]
    assert further.carried
    assert further.closed


def test_a_batch_has_lanes_of_its_host_and_waits_until_a_file_has_come() -> None:
    rule = BatchRule(4, lanes=3, after_one=True)
    queue = HostQueue([("h", n) for n in range(20)], lanes_per_host=4, most=4)
    assert queue.take_several(0.0, rule, 1) == QueueWait(None), "nothing is known of the host"
    assert queue.take(0.0, leaves=rule) == ("h", 0)
    queue.record_duration("h", 0.0, 0.001, 10)
    assert queue.take(0.0, leaves=rule) == QueueWait(None), "the rest is left to batches"
    assert queue.take_several(0.0, rule, 1) == ("h", [1, 2, 3, 4], 3)
    assert isinstance(queue.take(0.0), QueueWait), "all lanes are taken"
    queue.finish("h")
    assert queue.take(0.0) == ("h", 5)
    assert queue.take_several(0.0, rule, 1) == QueueWait(None), "a host has one batch at a time"
    queue.finish_batch("h", 3)
    assert queue.take(0.0) == ("h", 6)
    assert queue.take_several(0.0, rule, 1) == ("h", [7, 8, 9, 10], 2), "lanes that are free"
    queue.finish_batch("h", 2)
    queue.slow_down("h", 0.0, None)
    assert queue.take_several(0.0, rule, 1) == QueueWait(None), "a busy host is asked one by one"


def test_a_batch_of_a_host_that_serves_none_keeps_its_place_for_single_lanes() -> None:
    rule = BatchRule(4)
    queue = HostQueue([("h", n) for n in range(6)], lanes_per_host=4)
    assert queue.take_several(0.0, rule, 1) == ("h", [0, 1, 2, 3], 1)
    queue.refuse_batch("h", [0, 1, 2, 3])
    queue.finish_batch("h", 1)
    assert queue.take_several(0.0, rule, 1) == QueueWait(None)
    assert queue.upcoming("h", 0.0, 3) == [0, 1, 2], "and can be requested ahead"
    assert [queue.take(0.0, leaves=rule) for _ in range(2)] == [("h", 0), ("h", 1)]


@pytest.fixture
def committing(tmp_path: Path) -> Iterator[tuple[CommitThread, Ledger, Destination, list[Result]]]:
    settled: list[Result] = []
    with (
        Destination(tmp_path / "d") as destination,
        Ledger(ledger_path(tmp_path / "d"), create=True) as ledger,
    ):
        run = ledger.begin_run("a test", "")
        thread = CommitThread(ledger, run, destination, settled.append, lambda: "", clock=float)
        yield thread, ledger, destination, settled
        thread.close()


def arrived(destination: Destination, number: int, content: bytes) -> VerifiedFile:
    partial = f"p{number}"
    file = destination.open_partial(partial, is_new=True)
    with open(file, "wb") as writing:
        writing.write(content)
    path, address = f"{number}.csv", f"http://h.example/{number}.csv"
    stamp = destination.stamp(f".willow/partial/{partial}")
    assert stamp is not None
    arrival = Arrival(address, address, path, timestamp(), len(content), f"{number:064x}", None,
                      None, "", "nothing", stamp.mtime_ns)  # fmt: skip
    result = Result(number, address, path, State.ARRIVED, "", len(content), 0, 1, 0.1, arrival)
    return VerifiedFile(f".willow/partial/{partial}", result)


def test_files_get_their_names_and_entries_in_their_order(
    committing: tuple[CommitThread, Ledger, Destination, list[Result]], tmp_path: Path
) -> None:
    thread, ledger, destination, settled = committing
    for number in range(1, 31):
        thread.take(arrived(destination, number, b"%d" % number))
    thread.flush()
    assert [result.number for result in settled] == [*range(1, 31)]
    assert (tmp_path / "d" / "17.csv").read_bytes() == b"17"
    (entered,) = ledger.rows("SELECT count(*) AS n FROM arrival")
    assert entered["n"] == 30


def test_what_lies_in_the_way_and_is_not_ours_is_put_aside(
    committing: tuple[CommitThread, Ledger, Destination, list[Result]], tmp_path: Path
) -> None:
    thread, _, destination, _ = committing
    (tmp_path / "d" / "1.csv").write_text("a thesis")
    thread.take(arrived(destination, 1, b"new"))
    thread.flush()
    assert (tmp_path / "d" / "1.csv").read_bytes() == b"new"
    (kept,) = (tmp_path / "d" / ".willow" / "aside").rglob("1.csv")
    assert kept.read_text() == "a thesis"


def test_after_a_ledger_that_cannot_be_written_nothing_more_is_taken(
    committing: tuple[CommitThread, Ledger, Destination, list[Result]],
) -> None:
    thread = committing[0]

    def fail(_ledger: Ledger) -> None:
        raise sqlite3.OperationalError("disk I/O error")

    with pytest.raises(CannotStore, match="disk I/O error"):
        thread.take_at_once(Note(fail))
    with pytest.raises(CannotStore, match="disk I/O error"):
        thread.take(Note(lambda _: None))
    thread._failure = None  # so that the fixture can close it
