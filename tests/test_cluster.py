"""A haul on a Dask cluster: the same haul, whatever becomes of workers, scheduler and command."""

from __future__ import annotations

import hashlib
import json
import os
import pickle
import random
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

import willow_cart as wc
from tests.support.dask_cluster import DaskCluster, wait_until
from tests.support.program import PATIENCE, files_in, partial_bytes, run, start, wait_for_bytes
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.demo.store import DemoStore
from willow_cart.destination import PARTIAL, Destination
from willow_cart.errors import UnusableCluster
from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import ClusterClient, Worker
from willow_cart.executors.cluster_joining import MemberSetup, let_join
from willow_cart.executors.worker import Setup
from willow_cart.jobs.connecting import make_access
from willow_cart.jobs.job_observer import JobObserver
from willow_cart.protocols.fake import FakeAccess
from willow_cart.requests.survey import SurveyRequest
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.version import __version__

KILLS = max(1, int(os.environ.get("WILLOW_CART_KILLS", "10")) // 10)
KILLS_EACH = 10

# Workers that miss their coordinator end themselves soon; twenty seconds are long in a test.
HASTY = "from willow_cart.executors import cluster_worker as w\nw._ORPHANED_SECONDS = 5.0\n"


@pytest.fixture(scope="module")
def cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[DaskCluster]:
    with DaskCluster(tmp_path_factory.mktemp("dask"), HASTY) as dask:
        yield dask.add(2)


def put_up(place: StandIn, small: int, large: int, size: int, speed: float) -> dict[str, bytes]:
    """Small files, and large and slow ones."""
    rng = random.Random(2031)
    files = {f"small/{n}.csv": rng.randbytes(3000) for n in range(small)}
    files |= {f"large/{n}.wav": rng.randbytes(size) for n in range(large)}
    for path, content in files.items():
        slow = speed if path.startswith("large") else None
        place.exhibits[path] = Exhibit(content, speed=slow)
    return files


def write_list(folder: Path, place: StandIn, files: dict[str, bytes]) -> None:
    lines = "".join(f"{place.base}/{path}\n" for path in files)
    (folder / "list.txt").write_text(lines)


def events(log: Path, kind: str) -> list[dict[str, Any]]:
    if not log.exists():
        return []
    lines = log.read_text().rpartition("\n")[0].splitlines()
    return [each for each in map(json.loads, lines) if each["event"] == kind]


def test_it_is_the_same_haul(tmp_path: Path, place: StandIn, cluster: DaskCluster) -> None:
    files = put_up(place, 300, 3, 2_000_000, speed=20_000_000)
    (tmp_path / "here.csv").write_bytes(b"of this machine")
    place.exhibits["gone.csv"] = Exhibit(b"", refusals=[(410, {})] * 9)
    write_list(tmp_path, place, files | {"gone.csv": b""})
    with (tmp_path / "list.txt").open("a") as lines:
        lines.write(f"file://{tmp_path}/here.csv\n")
    haul = ["haul", "list.txt", "--cluster", cluster.address]
    done = run(*haul, "--into", "far", "--log", "log.jsonl", cwd=tmp_path)
    near = run("haul", "list.txt", "--into", "near", cwd=tmp_path)
    assert (done.code, near.code) == (1, 1), done.err
    assert files_in(tmp_path / "far") == files_in(tmp_path / "near")
    assert {path: files_in(tmp_path / "far")[path] for path in files} == files
    assert len(files_in(tmp_path / "far")) == len(files) + 1
    assert len(place.requests) < 2 * len(files) + 20, "no file was requested twice"
    rows = {
        into: {
            row["path"]: (row["state"], row["sha256"], row["attempts"], row["received"])
            for row in run("receipt", into, "--json", cwd=tmp_path).json()["files"]
        }
        for into in ("far", "near")
    }
    assert rows["far"] == rows["near"]
    far = run("receipt", "far", "--json", cwd=tmp_path).json()["files"]
    assert {row["worker"] for row in far} == {"heron-0", "heron-1", ""}, "one file was here"
    told = run("receipt", "far", cwd=tmp_path).out
    for name in ("heron-0", "heron-1"):
        files_of = sum(row["worker"] == name for row in far)
        assert f"worker {name}: {files_of} file" in told
    assert run("receipt", "far", "--html", "far.html", cwd=tmp_path).code == 0
    assert ">heron-1</td>" in (tmp_path / "far.html").read_text()
    carried = {each["worker"] for each in events(tmp_path / "log.jsonl", "carried_by")}
    assert carried == {"heron-0", "heron-1"}
    assert {each["worker"] for each in events(tmp_path / "log.jsonl", "worker_joined")} == carried
    assert list((tmp_path / "far" / ".willow" / "partial").iterdir()) == []
    # What a cluster has hauled, this machine knows, and the other way round.
    again = run("haul", "list.txt", "--into", "far", cwd=tmp_path)
    assert "304 unchanged" in again.last_line, again.out
    place.exhibits["small/7.csv"] = Exhibit(b"corrected")
    again = run(*haul, "--into", "near", cwd=tmp_path)
    assert "303 unchanged" in again.last_line, again.out
    assert (tmp_path / "near" / "small" / "7.csv").read_bytes() == b"corrected"


@pytest.mark.parametrize("number", range(KILLS))
def test_workers_that_are_killed_lose_nothing(tmp_path: Path, place: StandIn, number: int) -> None:
    """Workers are killed at random moments, and others join; the trees are identical."""
    rng = random.Random(number)
    files = put_up(place, 400, 8, 1_500_000, speed=1_500_000)
    write_list(tmp_path, place, files)
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(3)
        haul = start(
            "haul", "list.txt", "--into", "data", "--cluster", dask.address, "--log", "log.jsonl",
            "--attempts", "30", cwd=tmp_path,
        )  # fmt: skip
        wait_until("it begins", lambda: events(tmp_path / "log.jsonl", "started"))
        for _ in range(KILLS_EACH):
            with suppress(subprocess.TimeoutExpired):
                haul.wait(rng.uniform(0.05, 0.4))
            dask.kill(rng.choice(dask.living))
            dask.add()
        out, err = haul.communicate(timeout=PATIENCE)
    assert haul.returncode == 0, (out, err)
    assert files_in(tmp_path / "data") == files
    assert list((tmp_path / "data" / ".willow" / "partial").iterdir()) == []


def test_a_large_file_goes_on_from_its_byte_in_another_worker(
    tmp_path: Path, place: StandIn
) -> None:
    content = random.Random(1).randbytes(6_000_000)
    place.exhibits["dawn.wav"] = Exhibit(content, speed=2_000_000)
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(1)
        haul = start(
            "haul", f"{place.base}/dawn.wav", "--as", "file", "--into", "data", "--cluster",
            dask.address, "--lanes", "2", cwd=tmp_path,
        )  # fmt: skip
        wait_for_bytes(tmp_path / "data", 2_000_000, haul)
        dask.kill(dask.workers[0])
        dask.add(1)
        out, err = haul.communicate(timeout=PATIENCE)
    assert haul.returncode == 0, (out, err)
    assert (tmp_path / "data" / "dawn.wav").read_bytes() == content
    starts = [request.fields.get("range", "") for request in place.requests]
    assert len(starts) == 2
    assert int(starts[1].removeprefix("bytes=").partition("-")[0]) >= 2_000_000
    assert b"heron-0: its process ended" in err


def test_a_large_file_is_fetched_by_several_workers_at_once(tmp_path: Path, place: StandIn) -> None:
    """Workers that help are killed as well, and the one that has the file."""
    content = random.Random(1).randbytes(40_000_000)
    place.exhibits["dawn.wav"] = Exhibit(content, speed=4_000_000)
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(3)
        haul = start(
            "haul", f"{place.base}/dawn.wav", "--as", "file", "--into", "data", "--cluster",
            dask.address, "--strands", "3", "--log", "log.jsonl", cwd=tmp_path,
        )  # fmt: skip

        def helpers() -> set[str]:
            joined = events(tmp_path / "log.jsonl", "strand_started")
            return {str(each["start"]) for each in joined}

        wait_until("two help", lambda: len(helpers()) >= 2)
        dask.kill(dask.workers[1])
        dask.add(1)
        wait_for_bytes(tmp_path / "data", 20_000_000, haul)
        dask.kill(dask.workers[0])
        out, err = haul.communicate(timeout=PATIENCE)
    assert haul.returncode == 0, (out, err)
    assert files_in(tmp_path / "data") == {"dawn.wav": content}
    assert list((tmp_path / "data" / ".willow" / "partial").iterdir()) == []
    (row,) = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
    assert row["sha256"] == hashlib.sha256(content).hexdigest()
    whole = [each for each in place.requests if not each.fields.get("range")]
    assert len(whole) == 1, "nothing began anew"


def test_strands_of_many_files_do_not_wait_for_each_other(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    """Lanes are more than the workers' threads, and each file could use several."""
    files = put_up(place, 0, 7, 9_000_000, speed=20_000_000)
    write_list(tmp_path, place, files)
    haul = ["haul", "list.txt", "--into", "data", "--cluster", cluster.address]
    done = run(*haul, "--lanes", "12", "--lanes-per-host", "12", "--strands", "6", cwd=tmp_path)
    assert done.code == 0, done.err
    assert files_in(tmp_path / "data") == files


# A worker that hangs is given up after half a minute, which is long in a test.
IMPATIENT = (
    "import sys\n"
    "from willow_cart.executors import cluster_members\n"
    "cluster_members._SILENT_SECONDS = 3.0\n"
    "from willow_cart.cli.main import main\n"
    "sys.exit(main(sys.argv[1:]))\n"
)


def start_impatient(words: list[str], folder: Path) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-c", IMPATIENT, *words]
    return subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE)


def test_a_worker_that_hangs_with_a_segment_is_done_without_even_if_it_comes_back(
    tmp_path: Path, place: StandIn
) -> None:
    content = random.Random(1).randbytes(24_000_000)
    place.exhibits["dawn.wav"] = Exhibit(content, speed=2_000_000)
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(2, threads=1)
        words = ["haul", f"{place.base}/dawn.wav", "--as", "file", "--into", "data", "--cluster",
                 dask.address, "--strands", "2", "--log", "log.jsonl"]  # fmt: skip
        haul = start_impatient(words, tmp_path)
        log = tmp_path / "log.jsonl"
        wait_until("one helps", lambda: events(log, "strand_started"))
        owner, helper = (each["worker"] for each in events(log, "handed_over")[:2])
        assert owner != helper
        hanging = dask.workers[int(helper.rpartition("-")[2])]
        hanging.send_signal(signal.SIGSTOP)
        out, err = haul.communicate(timeout=PATIENCE)
        assert haul.returncode == 0, (out, err)
        hanging.send_signal(signal.SIGCONT)
        wait_until("it ends itself", lambda: open_shares(dask) == 0)
    assert f"{helper}: it hangs, or its network is cut".encode() in err
    assert files_in(tmp_path / "data") == {"dawn.wav": content}


def test_a_worker_that_hangs_is_done_without_even_if_it_comes_back(
    tmp_path: Path, place: StandIn
) -> None:
    content = random.Random(1).randbytes(3_000_000)
    place.exhibits["dawn.wav"] = Exhibit(content, speed=1_000_000)
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(1)
        words = ["haul", f"{place.base}/dawn.wav", "--as", "file", "--into", "data", "--cluster",
                 dask.address, "--lanes", "2"]  # fmt: skip
        haul = start_impatient(words, tmp_path)
        wait_for_bytes(tmp_path / "data", 500_000, haul)
        dask.workers[0].send_signal(signal.SIGSTOP)
        dask.add(1)
        out, err = haul.communicate(timeout=PATIENCE)
        assert haul.returncode == 0, (out, err)
        dask.workers[0].send_signal(signal.SIGCONT)
        wait_until("it ends itself", lambda: open_shares(dask) == 0)
    assert b"heron-0: it hangs, or its network is cut" in err
    assert files_in(tmp_path / "data") == {"dawn.wav": content}


def open_shares(dask: DaskCluster) -> int:
    """How many shares in hauls the workers have that answer."""
    told = dask.client.run(
        lambda: sum(not share.is_closed for share in cluster_worker._shares.values())
    )
    return sum(told.values())


def resumed_in(folder: Path, place: StandIn, files: dict[str, bytes], *options: str) -> int:
    """Haul the list again, with nothing in the way; return the bytes that did not come again.

    Before, what has its name is whole; afterwards, everything is there.
    """
    for path, content in files_in(folder / "data").items():
        assert content == files[path]
    for exhibit in place.exhibits.values():
        exhibit.speed = None
    again = run("haul", "list.txt", "--into", "data", *options, cwd=folder)
    assert again.code == 0, again.err
    assert files_in(folder / "data") == files
    rows = run("receipt", "data", "--json", cwd=folder).json()["files"]
    return sum(row["resumed"] for row in rows)


def test_when_the_scheduler_is_gone_the_haul_ends_in_order_and_is_resumed_here(
    tmp_path: Path, place: StandIn
) -> None:
    files = put_up(place, 20, 3, 3_000_000, speed=1_000_000)
    write_list(tmp_path, place, files)
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(2)
        haul = start("haul", "list.txt", "--into", "data", "--cluster", dask.address, cwd=tmp_path)
        wait_for_bytes(tmp_path / "data", 1_000_000, haul)
        dask.scheduler.kill()
        _, err = haul.communicate(timeout=PATIENCE)
    assert haul.returncode not in (0, None)
    assert b"the scheduler does not answer" in err
    assert b"its process ended" not in err, "the workers are not to blame"
    assert b"distributed" not in err
    assert b"Traceback" not in err
    assert partial_bytes(tmp_path / "data") >= 1_000_000
    assert resumed_in(tmp_path, place, files) >= 1_000_000


def test_when_the_command_is_killed_workers_stop_and_nothing_half_has_a_name(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    files = put_up(place, 5, 3, 4_000_000, speed=400_000)
    write_list(tmp_path, place, files)
    haul = start("haul", "list.txt", "--into", "data", "--cluster", cluster.address, cwd=tmp_path)
    wait_for_bytes(tmp_path / "data", 500_000, haul)
    haul.kill()
    haul.communicate()
    wait_until("workers end their shares", lambda: open_shares(cluster) == 0)
    wait_until("no task runs", lambda: not any(cluster.client.processing().values()))
    came = partial_bytes(tmp_path / "data")
    assert resumed_in(tmp_path, place, files, "--cluster", cluster.address) >= came * 0.9


def test_an_interrupt_ends_it_and_the_cluster_goes_on_with_it(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    files = put_up(place, 5, 3, 3_000_000, speed=500_000)
    write_list(tmp_path, place, files)
    haul = start("haul", "list.txt", "--into", "data", "--cluster", cluster.address, cwd=tmp_path)
    wait_for_bytes(tmp_path / "data", 500_000, haul)
    haul.send_signal(signal.SIGINT)
    out, err = haul.communicate(timeout=PATIENCE)
    assert haul.returncode == 130, (out, err)
    assert resumed_in(tmp_path, place, files, "--cluster", str(cluster.file)) >= 500_000


def test_python_takes_a_client_and_leaves_it_open(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    files = put_up(place, 20, 0, 0, speed=1)
    sources = [f"{place.base}/{path}" for path in files]
    done = wc.haul(sources, into=tmp_path / "data", cluster=cluster.client)
    there = f"{place.base}/small/"
    seen = wc.survey(there, cluster=cluster.file)
    assert len(seen) == len(wc.load(there, cluster=cluster.client)) == 20
    assert done.account.counts.total() == 20
    assert {path.name for path in (tmp_path / "data").rglob("*.csv")} == {
        path.rpartition("/")[2] for path in files
    }
    assert cluster.client.submit(lambda: 7, pure=False).result(PATIENCE) == 7


def test_folders_are_listed_by_workers_in_the_order_of_the_listing(
    tmp_path: Path, place: StandIn
) -> None:
    """As this machine would list them; a worker is killed on the way."""
    for number in range(240):
        path = f"tree/{number % 3}/{number % 12:02}/{number}.csv"
        place.exhibits[path] = Exhibit(b"%d" % number)
    survey = ["survey", f"{place.base}/tree/", "--depth", "all", "--json"]
    near = run(*survey, cwd=tmp_path).json()["offers"]
    assert len(near) == 240
    asked = len(place.requests)
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(2)
        far = start(*survey, "--cluster", dask.address, "--lanes", "3", cwd=tmp_path)
        wait_until("workers list", lambda: len(place.requests) > asked + 5)
        dask.kill(dask.workers[0])
        out, err = far.communicate(timeout=PATIENCE)
        assert far.returncode == 0, err
        assert json.loads(out)["offers"] == near
        assert len(place.requests) <= 2 * asked + 4, "no folder was listed twice but by that kill"


def test_buckets_are_listed_and_hauled_from_by_workers_with_the_machine_s_credentials(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "ida")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "reedmace")
    keys = [f"img/{n % 2}/{n:05}.jpg" for n in range(11_000)]
    keys += ["a//b.csv", "a.csv", "a/b.csv", "a0.csv", "trail/x y.csv", "plus+%2F.csv", "~/z"]
    objects = {f"traps/{key}": key.encode() for key in keys}
    with DemoStore(objects, secret="ida:reedmace") as store, DaskCluster(tmp_path / "k") as dask:
        dask.add(2)
        everything = ["s3://traps/", "--endpoint", store.base, "--depth", "all"]
        near = run("survey", *everything, "--csv", cwd=tmp_path)
        far = run("survey", *everything, "--csv", "--cluster", dask.address, cwd=tmp_path)
        assert near.code == far.code == 0, far.err
        assert far.out.splitlines() == near.out.splitlines()
        assert far.out.count("\n") == len(keys) + 1
        some = ["--drop", "*.jpg", "--into", "data", "--cluster", dask.address]
        hauled = run("haul", *everything, *some, cwd=tmp_path)
        assert hauled.code == 0, hauled.err
        assert len(files_in(tmp_path / "data")) == 7
        rows = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
        assert {row["worker"] for row in rows} <= {"heron-0", "heron-1"}


def test_a_busy_host_slows_all_workers(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    files = put_up(place, 60, 0, 0, speed=1)
    for number in (3, 30):
        place.exhibits[f"small/{number}.csv"].refusals = [(429, {"Retry-After": "1"})]
    write_list(tmp_path, place, files)
    began = time.monotonic()
    done = run(
        "haul", "list.txt", "--into", "data", "--cluster", cluster.address, "--gap", "0.02",
        cwd=tmp_path,
    )  # fmt: skip
    assert done.code == 0, done.err
    assert files_in(tmp_path / "data") == files
    asked = [request for request in place.requests if request.path.endswith(".csv")]
    assert len(asked) <= 64
    assert time.monotonic() - began > 0.02 * 60, "the gap is kept over all workers"


def test_what_is_wrong_with_a_cluster_is_said_in_a_line(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"a")
    haul = ["haul", f"{place.base}/a.csv", "--into", "data", "--cluster"]
    nobody = run(*haul, "tcp://127.0.0.1:9", cwd=tmp_path)
    assert (nobody.code, len(nobody.err.splitlines())) == (2, 1), nobody.err
    assert "no scheduler answers there" in nobody.err
    odd = run(*haul, "here.json", cwd=tmp_path)
    assert (odd.code, len(odd.err.splitlines())) == (2, 1), odd.err
    assert "neither an address nor a scheduler's file" in odd.err
    bare = run(*haul, "tls://127.0.0.1:9", cwd=tmp_path)
    assert (bare.code, len(bare.err.splitlines())) == (2, 1), bare.err
    assert "Dask's configuration names no certificates" in bare.err
    assert files_in(tmp_path / "data") == {}


class OneWorker(ClusterClient):
    """A cluster of one worker, which answers what it is told to.

    Args:
        version: of its package.
        sees: whether it sees the destination.
        is_near: whether secrets may go to it.
    """

    def __init__(self, version: str = __version__, *, sees: bool = True, is_near: bool = True):
        self._version = version
        self._sees = sees
        self._is_near = is_near
        self.joined: list[Setup] = []

    def is_private(self, worker: str) -> bool:
        return self._is_near

    def call(self, worker: str, function: Any, *args: Any, is_lost: Any = None) -> Any:
        if function is cluster_worker.version:
            return self._version
        if function is cluster_worker.prove_shared:
            return cluster_worker._prove_shared(*args) if self._sees else ""
        assert function is cluster_worker.join
        self.joined.append(args[1])
        return None


@pytest.mark.parametrize(
    ("cluster", "message"),
    [
        (OneWorker("0.1"), f"has Willow Cart 0.1, this is {__version__}"),
        (OneWorker(sees=False), "does not share the folder"),
        (OneWorker(is_near=False), "over a connection that is not encrypted"),
    ],
)
def test_a_worker_that_cannot_be_used_is_named(
    tmp_path: Path, cluster: OneWorker, message: str
) -> None:
    worker = Worker("tcp://10.0.0.7:4000", "heron", 2, 0.0)
    setup = Setup(FakeAccess({}).maker(), tmp_path, HaulPolicy())
    with Destination(tmp_path / "d") as destination:
        with pytest.raises(UnusableCluster) as caught:
            let_join(cluster, worker, MemberSetup("h", setup, None, "boot", destination))
        # One that answers after it was given up leaves nothing either.
        late = f"{PARTIAL}/proof-asked", f"{PARTIAL}/proof-answered"
        destination.create(late[0]).close()
        assert cluster_worker._prove_shared(tmp_path / "d", *late) == ""
        destination.delete(late[0])
        assert destination.names(".willow/partial") == []
    assert "worker heron: " in str(caught.value)
    assert message in str(caught.value)
    assert cluster.joined == []


def test_secrets_go_to_others_by_their_names_only(
    tmp_path: Path, place: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FEN", "reedmace")
    (tmp_path / "secret").write_text("reedmace")
    host = place.base.partition("://")[2]
    place.exhibits["members.csv"] = Exhibit(b"inside", members="ida:reedmace")

    def openly(password: str) -> Any:
        given = {"sources": (f"{place.base}/members.csv",), "user": ("ida",),
                 "password": (password,)}  # fmt: skip
        with make_access([SurveyRequest.read(given)], 2, JobObserver()) as access:
            return access.open_maker({host})

    assert openly(f"file:{tmp_path}/secret") is None
    pickled = pickle.dumps(openly("env:FEN"))
    assert b"reedmace" not in pickled
    with pickle.loads(pickled)() as there:
        delivery = there.open(f"{place.base}/members.csv")
        assert delivery.read() == b"inside"
        delivery.close()
