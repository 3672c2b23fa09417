"""Where transfers run: every executor keeps the same promises, and a haul with several is one."""

from __future__ import annotations

import os
import pickle
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from msgspec.structs import replace

from tests.support.dask_cluster import DaskCluster
from tests.support.program import files_in
from willow_cart.checks.digests import read_checksum
from willow_cart.commands.connecting import make_access
from willow_cart.commands.survey import SurveyRequest
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.destination import Destination
from willow_cart.errors import CheckFailed, ConnectionLost, Interrupted, NotServed, ServerBusy
from willow_cart.events import Notice, Received, Started
from willow_cart.executors.cluster import ClusterExecutor
from willow_cart.executors.cluster_client import ClusterClient
from willow_cart.executors.cluster_joining import Admission
from willow_cart.filing import Filed
from willow_cart.hauling.run import haul_offers
from willow_cart.ledger.receipt import read_receipt
from willow_cart.model import Offer, State
from willow_cart.observer import Observer
from willow_cart.options.groups import PaceOptions
from willow_cart.platform import disks
from willow_cart.protocols import Access
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer import executor
from willow_cart.transfer.commit import VerifiedFile
from willow_cart.transfer.downloader import Downloader
from willow_cart.transfer.executor import (
    BatchRule,
    Executor,
    Outcome,
    SmallFileExecutor,
    ThreadExecutor,
)
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.host_queue import HostQueue
from willow_cart.transfer.partials import PartialStore
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.transfers import Transfer

BASE = "http://h.example"
WISHES = HaulPolicy(pace=PaceOptions(attempts=3, pause=0.0))


class Heard(Observer):
    """Counts what it is told."""

    def __init__(self) -> None:
        self.begun: list[str] = []
        self.bytes = 0

    def note(self, event: Notice) -> None:
        match event:
            case Started(filed=filed):
                self.begun.append(filed.path)
            case Received(count=count):
                self.bytes += count


class NoLedger:
    """Stands where the commit thread would."""

    def take(self, item: object) -> None:
        pass

    def take_at_once(self, note: object) -> None:
        pass


class Bench:
    """An executor on a destination, and what it needs."""

    def __init__(
        self, root: Path, kind: type[Executor], access: Access, dask: DaskCluster | None = None
    ) -> None:
        self.access = access
        self.destination = Destination(root)
        self.heard = Heard()
        partials = PartialStore(self.destination, {}, disks.boot_mark())
        stop = threading.Event()
        downloader = Downloader(
            access, partials, NoLedger(), self.heard, stop, WISHES, self.destination.room
        )
        file_transfer = FileTransfer(downloader, self.destination, None)
        self.alone = ThreadExecutor(file_transfer, stop)
        self.executor: Executor = self.alone
        if kind is SmallFileExecutor:
            self.executor = SmallFileExecutor(file_transfer, stop, 4)
        if dask is not None:
            make = access.sharing.maker()
            assert make is not None
            self.executor = ClusterExecutor(
                self.destination, WISHES,
                admission=Admission(ClusterClient(dask.client)),
                make_access=make, make_access_openly=None, reserve=access.sharing.reserve,
                observer=self.heard, ledger_writer=NoLedger(), partials=partials,
                here=self.executor,
            )  # fmt: skip

    def carry(self, asked: list[Transfer]) -> dict[int, Outcome]:
        """Return the outcomes by number; what is not begun together is carried alone."""
        came = {transfer.number: outcome for transfer, outcome in self.executor.carry(asked, 0)}
        left = [transfer for transfer in asked if transfer.number not in came]
        return came | {each.number: outcome for each, outcome in self.alone.carry(left, 0)}

    def content(self, verified: object) -> bytes:
        assert isinstance(verified, VerifiedFile)
        with self.destination.open(verified.file) as file:
            return file.read()


MakeBench = Callable[[Access], Bench]


@pytest.fixture(scope="module")
def dask(tmp_path_factory: pytest.TempPathFactory) -> Iterator[DaskCluster]:
    with DaskCluster(tmp_path_factory.mktemp("dask")) as started:
        yield started.add(2)


@pytest.fixture(params=[ThreadExecutor, SmallFileExecutor, ClusterExecutor])
def bench(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[MakeBench]:
    made: list[Bench] = []
    is_far = request.param is ClusterExecutor
    dask = request.getfixturevalue("dask") if is_far else None

    def make(access: Access) -> Bench:
        made.append(Bench(tmp_path / "d", request.param, access, dask))
        return made[-1]

    yield make
    for each in made:
        each.executor.close()
        each.destination.close()
        each.access.close()


def transfers(addresses: list[str]) -> list[Transfer]:
    return [
        Transfer(number, Filed(Offer(address), f"{number}.csv"))
        for number, address in enumerate(addresses, 1)
    ]


def test_every_transfer_comes_back_once_checked_counted_and_told(bench: MakeBench) -> None:
    files = small(5)
    on = bench(FakeAccess(files))
    asked = transfers([*files])
    came = list(on.executor.carry(asked, 0))
    assert [transfer for transfer, _ in came] == asked
    assert [on.content(verified) for _, verified in came] == [f.content for f in files.values()]
    sizes = [len(file.content) for file in files.values()]
    assert [transfer.received for transfer in asked] == sizes
    assert [transfer.attempts for transfer in asked] == [1] * 5
    assert on.heard.begun == [transfer.filed.path for transfer in asked]
    assert on.heard.bytes == sum(sizes)


def test_nothing_is_told_of_the_next_transfer_before_this_one_is_seen_to(bench: MakeBench) -> None:
    files = small(4)
    on = bench(FakeAccess(files, ahead=4))
    asked = transfers([*files])
    on.executor.prepare(asked)
    assert on.heard.begun == [], "what is prepared is not begun"
    for number, (transfer, _) in enumerate(on.executor.carry(asked, 0), 1):
        assert on.heard.begun[-1] == transfer.filed.path
        assert len(on.heard.begun) == number


def test_a_failure_comes_back_with_its_facts_and_the_rest_goes_on(bench: MakeBench) -> None:
    files = small(4)
    gone = NotServed("x", "is gone", "look elsewhere", status=410)
    files[f"{BASE}/1.csv"].troubles = [gone]
    on = bench(FakeAccess(files))
    outcomes = [outcome for _, outcome in on.executor.carry(transfers([*files]), 0)]
    assert isinstance(outcomes[1], NotServed)
    assert vars(outcomes[1]) == vars(gone)
    assert sum(isinstance(each, VerifiedFile) for each in outcomes) == 3


@pytest.mark.parametrize(
    "trouble",
    [ServerBusy("x", "429", "", wait=7.0, status=429), ConnectionLost("x", "it broke")],
)
def test_a_busy_or_broken_host_ends_a_batch(
    trouble: ServerBusy | ConnectionLost, bench: MakeBench
) -> None:
    files = small(6)
    files[f"{BASE}/2.csv"].troubles = [trouble]
    on = bench(FakeAccess(files))
    asked = transfers([*files])
    came = list(on.executor.carry(asked, 0))
    assert [transfer for transfer, _ in came] == asked[:3]
    assert vars(came[-1][1]) == vars(trouble)
    assert [transfer.attempts for transfer in asked[3:]] == [0, 0, 0], (
        "what was not begun is as it was"
    )
    assert len([*on.executor.carry(asked[3:], 0)]) == 3


def test_an_odd_answer_is_a_failure_and_not_an_end(bench: MakeBench) -> None:
    files = small(3)
    files[f"{BASE}/1.csv"] = FakeFile("not bytes")  # type: ignore[arg-type]
    on = bench(FakeAccess(files))
    outcomes = on.carry(transfers([*files]))
    assert {number: isinstance(each, VerifiedFile) for number, each in outcomes.items()} == {
        1: True, 2: False, 3: True
    }  # fmt: skip


def test_abort_ends_what_waits_and_close_leaves_nothing(bench: MakeBench, place: StandIn) -> None:
    place.exhibits["silent.csv"] = Exhibit(b"x" * 1000, speed=1)
    address = f"{place.base}/silent.csv"
    request = SurveyRequest.read({"sources": (address,)})
    on = bench(make_access([request], 2, Observer()))
    waiting = threading.Thread(target=_carry_in_vain, args=(on.executor, transfers([address])))
    waiting.start()
    while "/silent.csv" not in {each.path for each in place.requests}:
        time.sleep(0.01)
    on.executor.abort()
    waiting.join(30)
    assert not waiting.is_alive()
    on.executor.close()
    on.executor.close()


def _carry_in_vain(executor: Executor, asked: list[Transfer]) -> None:
    try:
        outcomes = list(executor.carry(asked, 0))
    except Interrupted:
        return
    assert not any(isinstance(outcome, VerifiedFile) for _, outcome in outcomes)


def test_sign_ins_hold_wherever_a_transfer_runs(
    bench: MakeBench, place: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FEN", "reedmace")
    place.exhibits["members.csv"] = Exhibit(b"inside", members="ida:reedmace")
    address = f"{place.base}/members.csv"
    given = {"sources": (address,), "user": ("ida",), "password": ("env:FEN",)}
    on = bench(make_access([SurveyRequest.read(given)], 2, Observer()))
    assert on.content(on.carry(transfers([address]))[1]) == b"inside"


@pytest.fixture
def taken(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """Have every host serve small files together after its first, and count those that came."""
    came: list[int] = []
    carry = SmallFileExecutor.carry

    def counted(
        self: SmallFileExecutor, asked: list[Transfer], lane: int, at_once: int
    ) -> Iterator[object]:
        for transfer, outcome in carry(self, asked, lane, at_once):
            came.append(transfer.number)
            yield transfer, outcome

    monkeypatch.setattr(SmallFileExecutor, "carry", counted)
    monkeypatch.setattr(executor, "_SLOWEST_IN_LOOP", float("inf"))
    return came


def named(files: dict[str, FakeFile]) -> dict[str, bytes]:
    return {path.rpartition("/")[2]: file.content for path, file in files.items()}


def small(count: int) -> dict[str, FakeFile]:
    return {f"{BASE}/{n}.csv": FakeFile(f"level {n}\n".encode()) for n in range(count)}


def test_small_files_are_requested_several_at_a_time(tmp_path: Path, taken: list[int]) -> None:
    files = small(600)
    access = FakeAccess(files)
    account = haul_offers(map(Offer, files), tmp_path, access, WISHES)
    assert account.counts == {State.ARRIVED: 600}
    assert account.received == sum(len(file.content) for file in files.values())
    assert files_in(tmp_path) == named(files)
    assert len(taken) > 500
    assert 1 < access.most_at_once <= WISHES.pace.first_host_lanes
    assert {row.attempts for row in read_receipt(tmp_path).rows} == {1}
    assert list((tmp_path / ".willow/partial").iterdir()) == []
    taken.clear()
    again = haul_offers(map(Offer, files), tmp_path, FakeAccess(files), WISHES)
    assert again.counts == {State.UNCHANGED: 600}
    assert len(taken) > 500, "what is here is asked about together as well"
    for number in range(0, 600, 7):
        files[f"{BASE}/{number}.csv"] = FakeFile(f"now {number}\n".encode(), entity_tag='"2"')
    third = haul_offers(map(Offer, files), tmp_path, FakeAccess(files), WISHES)
    assert third.counts == {State.ARRIVED: 86, State.UNCHANGED: 514}
    assert files_in(tmp_path) == named(files), "what has changed takes the place of what was here"


def test_what_goes_wrong_together_is_handled_as_if_it_had_gone_wrong_alone(
    tmp_path: Path, taken: list[int]
) -> None:
    files = small(200)
    promised = {f"{BASE}/7.csv": (read_checksum("0" * 64),)}
    for number in range(0, 200, 20):
        files[f"{BASE}/{number}.csv"].troubles = [ConnectionLost("x", "the connection broke")]
    files[f"{BASE}/33.csv"].troubles = [NotServed("x", "is gone", "look elsewhere", status=410)]
    files[f"{BASE}/50.csv"] = FakeFile(os.urandom(3_000_000))
    files[f"{BASE}/60.csv"] = FakeFile(b"<!DOCTYPE html><title>Sign in</title>")
    offers = [Offer(address, checksums=promised.get(address, ())) for address in files]
    account = haul_offers(offers, tmp_path, FakeAccess(files), WISHES)
    assert account.counts == {State.ARRIVED: 197, State.FAILED: 1, State.REFUSED: 2}
    right = {name: content for name, content in named(files).items() if name not in
             ("7.csv", "33.csv", "60.csv")}  # fmt: skip
    assert files_in(tmp_path) == right
    assert taken


@pytest.mark.parametrize(
    "pace", [PaceOptions(gap=0.001), PaceOptions(speed_cap=10_000_000)], ids=["gap", "cap"]
)
def test_a_haul_at_a_pace_of_its_own_has_one_request_at_a_time(
    tmp_path: Path, taken: list[int], pace: PaceOptions
) -> None:
    files = small(30)
    haul_offers(map(Offer, files), tmp_path, FakeAccess(files), replace(WISHES, pace=pace))
    assert files_in(tmp_path) == named(files)
    assert taken == []


def test_one_lane_is_one_request_at_a_time(tmp_path: Path, taken: list[int]) -> None:
    files = small(100)
    access = FakeAccess(files)
    one = replace(WISHES, pace=PaceOptions(attempts=3, pause=0.0, lanes=1))
    account = haul_offers(map(Offer, files), tmp_path, access, one)
    assert account.counts == {State.ARRIVED: 100}
    assert taken
    assert (access.most_at_once, access.most_open) == (1, 1)


def test_errors_keep_what_they_know_between_processes() -> None:
    busy = ServerBusy("x", "is busy", "wait", wait=7.0, status=503)
    failed = CheckFailed("x", "is wrong", "look", expected="a", found="b", kept=Path("c"))
    for error in (busy, failed):
        copy = pickle.loads(pickle.dumps(error))
        assert (type(copy), str(copy), vars(copy)) == (type(error), str(error), vars(error))


def test_a_busy_answer_ends_a_batch_and_what_was_not_begun_goes_back(
    tmp_path: Path, taken: list[int]
) -> None:
    files = small(200)
    busy = ServerBusy("x", "429", "", wait=0.01, status=429)
    for number in range(20, 200, 60):
        files[f"{BASE}/{number}.csv"].troubles = [busy]
    access = FakeAccess(files, pause=0.001)
    account = haul_offers(map(Offer, files), tmp_path, access, WISHES)
    assert account.counts == {State.ARRIVED: 200}
    assert files_in(tmp_path) == named(files)


def test_large_files_do_not_wait_for_the_small_ones_of_their_batch() -> None:
    """What is given back is taken by any lane, one by one, and in batches no more."""
    queue = HostQueue([("h", n) for n in range(6)], lanes_per_host=4)
    taken = queue.take_several(0.0, BatchRule(4), 1)
    assert taken == ("h", [0, 1, 2, 3], 1)
    queue.return_untried("h", [2, 3])
    assert queue.take(0.0) == ("h", 2)
    assert queue.take_several(0.0, BatchRule(4), 1) == ("h", [4, 5], 1)
    assert queue.take(0.0) == ("h", 3)
