"""Where transfers run: every executor keeps the same promises, and a haul with several is one."""

from __future__ import annotations

import os
import pickle
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from msgspec.structs import replace

from tests.support.dask_cluster import DaskCluster
from tests.support.program import PATIENCE, files_in
from willow_cart.checks.digests import read_checksum
from willow_cart.commands.connecting import make_access
from willow_cart.commands.survey import SurveyRequest
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.destination import Destination
from willow_cart.errors import CheckFailed, ConnectionLost, Interrupted, NotServed, ServerBusy
from willow_cart.events import Notice, ProcessesStarted, ProcessLost, Received, Started
from willow_cart.executors import processes
from willow_cart.executors.cluster import ClusterExecutor
from willow_cart.executors.cluster_client import ClusterClient
from willow_cart.executors.cluster_joining import Admission
from willow_cart.executors.processes import ProcessExecutor
from willow_cart.filing import Filed
from willow_cart.hauling.run import haul_offers
from willow_cart.ledger.receipt import read_receipt
from willow_cart.model import Offer, State
from willow_cart.observer import Observer
from willow_cart.options.groups import PaceOptions
from willow_cart.platform import disks
from willow_cart.protocols import Access
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer import rates
from willow_cart.transfer.commit import VerifiedFile
from willow_cart.transfer.downloader import Downloader
from willow_cart.transfer.executor import BatchRule, Executor, ThreadExecutor
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.host_queue import HostQueue, QueueWait
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
        if kind is ProcessExecutor:
            make = access.sharing.maker()
            assert make is not None
            self.executor: Executor = ProcessExecutor(make, self.destination, WISHES, self.heard)
            return
        partials = PartialStore(self.destination, {}, disks.boot_mark())
        stop = threading.Event()
        downloader = Downloader(
            access, partials, NoLedger(), self.heard, stop, WISHES, self.destination.room
        )
        self.executor = ThreadExecutor(FileTransfer(downloader, self.destination, None), stop)
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

    def content(self, verified: object) -> bytes:
        assert isinstance(verified, VerifiedFile)
        with self.destination.open(verified.file) as file:
            return file.read()


MakeBench = Callable[[Access], Bench]


@pytest.fixture(scope="module")
def dask(tmp_path_factory: pytest.TempPathFactory) -> Iterator[DaskCluster]:
    with DaskCluster(tmp_path_factory.mktemp("dask")) as started:
        yield started.add(2)


@pytest.fixture(params=[ThreadExecutor, ProcessExecutor, ClusterExecutor])
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
    outcomes = [outcome for _, outcome in on.executor.carry(transfers([*files]), 0)]
    assert [isinstance(each, VerifiedFile) for each in outcomes] == [True, False, True]


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
    if isinstance(on.executor, ProcessExecutor):
        assert on.executor._process.returncode is not None


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
    ((_, verified),) = on.executor.carry(transfers([address]), 0)
    assert on.content(verified) == b"inside"


@dataclass
class Eager:
    """What the processes have done.

    Attributes:
        carried: the files of each batch.
        suffices: whether the processes have done enough; the threads wait for it.
    """

    carried: list[int]
    suffices: Callable[[], bool]


@pytest.fixture
def eager(monkeypatch: pytest.MonkeyPatch) -> Eager:
    """Have every haul think itself crowded, and its threads wait until processes have begun."""
    told = Eager([], lambda: sum(told.carried) > 0)
    carry, take = ProcessExecutor.carry, HostQueue.take
    taken: list[object] = []

    def counted(self: ProcessExecutor, transfers: list[Transfer], lane: int) -> object:
        came = list(carry(self, transfers, lane))
        told.carried.append(len(came))
        return came

    def patient(self: HostQueue[int], now: float, *, leaves: BatchRule | None = None) -> object:
        if len(taken) >= 15 and not told.suffices():
            return QueueWait(0.01)
        found = take(self, now, leaves=leaves)
        if not isinstance(found, QueueWait):
            taken.append(found)
        return found

    monkeypatch.setattr(HostQueue, "take", patient)
    monkeypatch.setattr(
        ProcessExecutor, "batches", replace(ProcessExecutor.batches, slowest=float("inf"))
    )

    monkeypatch.setattr(processes, "_FILES_WORTH_A_PROCESS", 10)
    monkeypatch.setattr(ProcessExecutor, "carry", counted)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0, 1}, raising=False)
    monkeypatch.setattr(rates, "_IDLE_SHARE", -1.0)
    monkeypatch.setattr(rates, "_CROWDED_SHARE", 0.0)
    return told


def named(files: dict[str, FakeFile]) -> dict[str, bytes]:
    return {path.rpartition("/")[2]: file.content for path, file in files.items()}


def small(count: int) -> dict[str, FakeFile]:
    return {f"{BASE}/{n}.csv": FakeFile(f"level {n}\n".encode()) for n in range(count)}


def test_small_files_arrive_by_way_of_a_process(tmp_path: Path, eager: Eager) -> None:
    files = small(600)
    access = FakeAccess(files, pause=0.002)
    account = haul_offers(map(Offer, files), tmp_path, access, WISHES)
    assert account.counts == {State.ARRIVED: 600}
    assert account.received == sum(len(file.content) for file in files.values())
    assert files_in(tmp_path) == named(files)
    assert sum(eager.carried) > 50
    assert {row.attempts for row in read_receipt(tmp_path).rows} == {1}
    again = haul_offers(map(Offer, files), tmp_path, FakeAccess(files), WISHES)
    assert again.counts == {State.UNCHANGED: 600}, "what is here is asked about by who knows it"


def test_what_goes_wrong_there_is_seen_to_as_if_it_had_gone_wrong_here(
    tmp_path: Path, eager: Eager
) -> None:
    files = small(200)
    promised = {f"{BASE}/7.csv": (read_checksum("0" * 64),)}
    for number in range(0, 200, 20):
        files[f"{BASE}/{number}.csv"].troubles = [ConnectionLost("x", "the connection broke")]
    files[f"{BASE}/33.csv"].troubles = [NotServed("x", "is gone", "look elsewhere", status=410)]
    files[f"{BASE}/50.csv"] = FakeFile(os.urandom(3_000_000))
    offers = [Offer(address, checksums=promised.get(address, ())) for address in files]
    account = haul_offers(offers, tmp_path, FakeAccess(files, pause=0.001), WISHES)
    assert account.counts == {State.ARRIVED: 198, State.FAILED: 1, State.REFUSED: 1}
    right = {name: content for name, content in named(files).items() if name not in
             ("7.csv", "33.csv")}  # fmt: skip
    assert files_in(tmp_path) == right
    assert sum(eager.carried) > 0


class Lost(Observer):
    """Counts the processes."""

    def __init__(self) -> None:
        self.processes = self.lost = 0

    def note(self, event: Notice) -> None:
        match event:
            case ProcessesStarted(count):
                self.processes += count
            case ProcessLost():
                self.lost += 1


@pytest.mark.parametrize("kills", [1, 2])
def test_a_process_that_is_killed_is_done_without(
    tmp_path: Path, eager: Eager, monkeypatch: pytest.MonkeyPatch, kills: int
) -> None:
    files = small(600)
    counted = ProcessExecutor.carry
    killed: set[ProcessExecutor] = set()

    def deadly(self: ProcessExecutor, transfers: list[Transfer], lane: int) -> object:
        if eager.carried and len(killed) < kills:
            killed.add(self)
            self._process.kill()
            self._process.wait()
        return counted(self, transfers, lane)

    monkeypatch.setattr(ProcessExecutor, "carry", deadly)
    eager.suffices = lambda: len(killed) >= kills
    heard = Lost()
    access = FakeAccess(files, pause=0.002)
    account = haul_offers(map(Offer, files), tmp_path, access, WISHES, observer=heard)
    assert account.counts == {State.ARRIVED: 600}
    assert heard.processes == 2
    assert heard.lost == len(killed) == kills, "told once of each"
    assert files_in(tmp_path) == named(files)


def test_a_haul_at_a_pace_of_its_own_has_one_process(eager: Eager) -> None:
    assert processes.pays(20, HaulPolicy())
    assert not processes.pays(9, HaulPolicy())
    assert not processes.pays(20, HaulPolicy(pace=PaceOptions(gap=1.0)))
    assert not processes.pays(20, HaulPolicy(pace=PaceOptions(speed_cap=1000)))
    assert not processes.pays(20, HaulPolicy(pace=PaceOptions(lanes_per_host=1)))


def test_a_process_runs_no_script_of_its_folder_and_not_its_starter_again(
    tmp_path: Path, place: StandIn
) -> None:
    """A script without a guard for `__main__` hauls once; a folder's modules are not imported."""
    (tmp_path / "json.py").write_text("raise SystemExit('imported')\n")
    files = {f"{n}.csv": Exhibit(b"%d" % n) for n in range(40)}
    place.exhibits |= files
    script = tmp_path / "bring.py"
    script.write_text(
        "import sys; del sys.path[0]\n"
        "import willow_cart as wc\n"
        "from willow_cart.executors import processes\n"
        "from willow_cart.transfer import rates as crowding\n"
        "processes._FILES_WORTH_A_PROCESS = 10\n"
        "crowding._IDLE_SHARE, crowding._CROWDED_SHARE = -1.0, 0.0\n"
        f"done = wc.haul('{place.base}/{{0..39}}.csv', into='d')\n"
        "print(done.account.counts.total())\n"
    )
    done = subprocess.run(
        [sys.executable, script.name], cwd=tmp_path, capture_output=True, text=True,
        timeout=PATIENCE, check=False,
    )  # fmt: skip
    assert (done.returncode, done.stdout, done.stderr) == (0, "40\n", "")
    assert len([each for each in place.requests if each.path.endswith(".csv")]) == 40


def test_errors_keep_what_they_know_between_processes() -> None:
    busy = ServerBusy("x", "is busy", "wait", wait=7.0, status=503)
    failed = CheckFailed("x", "is wrong", "look", expected="a", found="b", kept=Path("c"))
    for error in (busy, failed):
        copy = pickle.loads(pickle.dumps(error))
        assert (type(copy), str(copy), vars(copy)) == (type(error), str(error), vars(error))


def test_a_busy_answer_ends_a_batch_and_what_was_not_begun_goes_back(
    tmp_path: Path, eager: Eager
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
    """What is given back is taken by any lane, one by one, and by the dozen no more."""
    queue = HostQueue([("h", n) for n in range(6)], lanes_per_host=4)
    taken = queue.take_several(0.0, BatchRule(4), 1)
    assert taken == ("h", [0, 1, 2, 3])
    queue.return_untried("h", [2, 3])
    assert queue.take(0.0) == ("h", 2)
    assert queue.take_several(0.0, BatchRule(4), 1) == ("h", [4, 5])
    assert queue.take(0.0) == ("h", 3)
