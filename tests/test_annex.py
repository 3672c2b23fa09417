"""Small files carried in a second process come home as they do in one."""

from __future__ import annotations

import os
import pickle
import signal
import threading
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.support.program import files_in
from willow_cart.access import Patience
from willow_cart.access.fake import FakeAccess, FakeFile
from willow_cart.checks import read_checksum
from willow_cart.errors import CheckFailed, ConnectionLost, NotServed, ServerBusy
from willow_cart.hauling import Pace, Wishes, annex, bring_home, crowding
from willow_cart.hauling.docket import Docket
from willow_cart.hauling.trips import Trip
from willow_cart.model import Offer, State
from willow_cart.records import read_receipt

BASE = "http://h.example"
WISHES = Wishes(patience=Patience(attempts=3, pause=0.0))


@pytest.fixture(autouse=True)
def eager(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """Have every haul think itself crowded, and tell how many files the annex has carried."""
    carried: list[int] = []
    carry = annex.Annex.carry

    def counted(self: annex.Annex, trips: list[Trip]) -> dict[int, annex.Carried]:
        came = carry(self, trips)
        carried.append(len(came))
        return came

    monkeypatch.setattr(annex, "_WORTH_IT", 10)
    monkeypatch.setattr(annex, "_has_no_threads", lambda: True)  # pytest's own do no harm
    monkeypatch.setattr(annex.Annex, "carry", counted)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0, 1}, raising=False)
    monkeypatch.setattr(crowding, "_ROOMY", -1.0)
    monkeypatch.setattr(crowding, "_CROWDED", 0.0)
    return carried


def named(files: dict[str, FakeFile]) -> dict[str, bytes]:
    return {path.rpartition("/")[2]: file.content for path, file in files.items()}


def small(count: int) -> dict[str, FakeFile]:
    return {f"{BASE}/{n}.csv": FakeFile(f"level {n}\n".encode()) for n in range(count)}


def test_small_files_arrive_by_way_of_the_annex(tmp_path: Path, eager: list[int]) -> None:
    files = small(300)
    access = FakeAccess(files, pause=0.001)
    account = bring_home(map(Offer, files), tmp_path, access, WISHES)
    assert account.counts == {State.ARRIVED: 300}
    assert account.received == sum(len(file.content) for file in files.values())
    assert files_in(tmp_path) == named(files)
    assert sum(eager) > 50
    assert {row.attempts for row in read_receipt(tmp_path).rows} == {1}
    again = bring_home(map(Offer, files), tmp_path, FakeAccess(files), WISHES)
    assert again.counts == {State.UNCHANGED: 300}, "what is here is asked about by who knows it"


def test_what_goes_wrong_there_is_seen_to_as_if_it_had_gone_wrong_here(
    tmp_path: Path, eager: list[int]
) -> None:
    files = small(200)
    promised = {f"{BASE}/7.csv": (read_checksum("0" * 64),)}
    for number in range(0, 200, 20):
        files[f"{BASE}/{number}.csv"].troubles = [ConnectionLost("x", "the connection broke")]
    files[f"{BASE}/33.csv"].troubles = [NotServed("x", "is gone", "look elsewhere", status=410)]
    files[f"{BASE}/50.csv"] = FakeFile(os.urandom(3_000_000))
    offers = [Offer(address, checksums=promised.get(address, ())) for address in files]
    account = bring_home(offers, tmp_path, FakeAccess(files, pause=0.001), WISHES)
    assert account.counts == {State.ARRIVED: 198, State.FAILED: 1, State.REFUSED: 1}
    right = {name: content for name, content in named(files).items() if name not in
             ("7.csv", "33.csv")}  # fmt: skip
    assert files_in(tmp_path) == right
    assert sum(eager) > 0


def test_an_annex_that_is_killed_is_done_without(
    tmp_path: Path, eager: list[int], monkeypatch: pytest.MonkeyPatch
) -> None:
    files = small(300)
    counted: Callable[..., dict[int, annex.Carried]] = annex.Annex.carry

    def deadly(self: annex.Annex, trips: list[Trip]) -> dict[int, annex.Carried]:
        if len(eager) == 1:
            os.kill(self._process, signal.SIGKILL)
        return counted(self, trips)

    monkeypatch.setattr(annex.Annex, "carry", deadly)
    account = bring_home(map(Offer, files), tmp_path, FakeAccess(files, pause=0.001), WISHES)
    assert account.counts == {State.ARRIVED: 300}
    assert eager[-1] == 0
    assert files_in(tmp_path) == named(files)


def test_a_haul_at_a_pace_of_its_own_has_no_annex() -> None:
    assert annex.pays(20, Wishes())
    assert not annex.pays(9, Wishes())
    assert not annex.pays(20, Wishes(pace=Pace(gap=1.0)))
    assert not annex.pays(20, Wishes(pace=Pace(speed_cap=1000)))
    assert not annex.pays(20, Wishes(lanes_per_host=1))


def test_errors_keep_what_they_know_between_processes() -> None:
    busy = ServerBusy("x", "is busy", "wait", wait=7.0, status=503)
    failed = CheckFailed("x", "is wrong", "look", expected="a", found="b", kept=Path("c"))
    for error in (busy, failed):
        copy = pickle.loads(pickle.dumps(error))
        assert (type(copy), str(copy), vars(copy)) == (type(error), str(error), vars(error))


def test_a_busy_answer_ends_a_batch_and_what_was_not_begun_goes_back(
    tmp_path: Path, eager: list[int]
) -> None:
    files = small(200)
    busy = ServerBusy("x", "the server answers 429", "", wait=0.01, status=429)
    for number in range(20, 200, 60):
        files[f"{BASE}/{number}.csv"].troubles = [busy]
    access = FakeAccess(files, pause=0.001)
    account = bring_home(map(Offer, files), tmp_path, access, WISHES)
    assert account.counts == {State.ARRIVED: 200}
    assert files_in(tmp_path) == named(files)


def test_large_files_do_not_wait_for_the_small_ones_of_their_batch() -> None:
    """What is given back is taken by any lane, one by one, and by the dozen no more."""
    docket = Docket([("h", n) for n in range(6)], lanes_per_host=4)
    taken = docket.take_several(0.0, 4)
    assert taken == ("h", [0, 1, 2, 3])
    docket.give_back("h", [2, 3])
    assert docket.take(0.0) == ("h", 2)
    assert docket.take_several(0.0, 4) == ("h", [4, 5])
    assert docket.take(0.0) == ("h", 3)


def test_a_process_with_threads_is_not_forked(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.undo()
    monkeypatch.setattr(annex, "_WORTH_IT", 1)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0, 1}, raising=False)
    ended = threading.Event()
    thread = threading.Thread(target=ended.wait)
    thread.start()
    assert not annex.pays(20, Wishes())
    ended.set()
    thread.join()
