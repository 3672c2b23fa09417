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
from contextlib import closing, suppress
from functools import partial
from itertools import pairwise
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

import willow_cart as wc
from tests.support.dask_cluster import DaskCluster, wait_until
from tests.support.program import PATIENCE, files_in, partial_bytes, run, start, wait_for_bytes
from willow_cart.commands.connecting import make_access
from willow_cart.commands.survey import SurveyRequest
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.demo.store import DemoStore
from willow_cart.destination import PARTIAL, Destination
from willow_cart.errors import UnusableCluster
from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import ClusterClient, Gone, Worker
from willow_cart.executors.cluster_joining import Admission, MemberSetup, SharedFolder
from willow_cart.executors.cluster_worker import Setup
from willow_cart.observer import Observer
from willow_cart.protocols.fake import FakeAccess
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
    (tmp_path / "list.txt").write_text(f"{place.base}/dawn.wav\n")
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(1)
        haul = start(
            "haul", "list.txt", "--into", "data", "--cluster", dask.address, "--strands", "1",
            cwd=tmp_path,
        )  # fmt: skip
        wait_for_bytes(tmp_path / "data", 2_000_000, haul)
        dask.kill(dask.workers[0])
        dask.add(1)
        out, err = haul.communicate(timeout=PATIENCE)
    assert haul.returncode == 0, (out, err)
    assert (tmp_path / "data" / "dawn.wav").read_bytes() == content
    starts = [request.fields.get("range", "") for request in place.requests]
    assert len(starts) == 2
    assert int(starts[1].removeprefix("bytes=").partition("-")[0]) >= 1_000_000
    assert b"heron-0: its process ended" in err


def test_a_large_file_is_fetched_on_several_threads_of_its_worker(
    tmp_path: Path, place: StandIn
) -> None:
    """The worker is killed as well; another one goes on with all that its threads have brought."""
    content = random.Random(1).randbytes(40_000_000)
    place.exhibits["dawn.wav"] = Exhibit(content, speed=4_000_000)
    with DaskCluster(tmp_path / "dask", HASTY) as dask:
        dask.add(2, threads=1)
        haul = start(
            "haul", f"{place.base}/dawn.wav", "--as", "file", "--into", "data", "--cluster",
            dask.address, "--strands", "3", "--log", "log.jsonl", cwd=tmp_path,
        )  # fmt: skip

        def parts() -> int:
            return sum(bool(request.fields.get("range")) for request in place.requests)

        wait_until("two help", lambda: parts() >= 2)
        (owner,) = {each["worker"] for each in events(tmp_path / "log.jsonl", "handed_over")}
        wait_for_bytes(tmp_path / "data", 20_000_000, haul)
        dask.kill(dask.workers[int(owner.rpartition("-")[2])])
        out, err = haul.communicate(timeout=PATIENCE)
    assert haul.returncode == 0, (out, err)
    assert files_in(tmp_path / "data") == {"dawn.wav": content}
    assert list((tmp_path / "data" / ".willow" / "partial").iterdir()) == []
    (row,) = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
    assert row["sha256"] == hashlib.sha256(content).hexdigest()
    whole = [each for each in place.requests if not each.fields.get("range")]
    assert len(whole) <= 2, "it was asked for once to look at it, and once to fetch it"


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
    assert done.account.counts.total() == 20
    assert {path.name for path in (tmp_path / "data").rglob("*.csv")} == {
        path.rpartition("/")[2] for path in files
    }
    assert cluster.client.submit(lambda: 7, pure=False).result(PATIENCE) == 7


def test_buckets_are_hauled_from_by_workers_with_the_machine_s_credentials(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "ida")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "reedmace")
    keys = ["a.csv", "a/b.csv", "a0.csv", "trail/x y.csv", "plus+%2F.csv", "~/z"]
    objects = {f"traps/{key}": key.encode() for key in keys}
    with DemoStore(objects, secret="ida:reedmace") as store, DaskCluster(tmp_path / "k") as dask:
        dask.add(2)
        everything = ["s3://traps/", "--endpoint", store.base, "--depth", "all"]
        some = ["--into", "data", "--cluster", dask.address]
        hauled = run("haul", *everything, *some, cwd=tmp_path)
        assert hauled.code == 0, hauled.err
        assert len(files_in(tmp_path / "data")) == 6
        rows = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
        assert {row["worker"] for row in rows} <= {"heron-0", "heron-1"}, "none was fetched here"


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


FACTS = {"version": __version__, "build": cluster_worker.build_mark(), "boot": "elsewhere"}


class OneWorker(ClusterClient):
    """A cluster of one worker, which answers what it is told to.

    Args:
        facts: of it, or what asking it raises.
        sees: whether it sees the destination.
    """

    def __init__(self, facts: dict[str, str] | Exception, *, sees: bool = True):
        self._facts = facts
        self._sees = sees
        self.shown = "tcp://127.0.0.1:8786"
        self.joined: list[Setup] = []

    @property
    def boot_mark(self) -> str:
        return "elsewhere"

    def ask(self, function: Any, args: Any, *, late: float = 1) -> dict[str, Any]:
        if not args:
            return {}
        ((worker, given),) = args.items()
        if function is cluster_worker.join:
            self.joined.append(given[1])
            return {worker: None}
        if isinstance(self._facts, Exception):
            return {worker: self._facts}
        read = cluster_worker._prove_shared(*given) if self._sees else ""
        return {worker: self._facts | {"read": read}}


@pytest.mark.parametrize(
    ("facts", "sees", "message"),
    [
        (FACTS | {"version": "0.1"}, True, f"has Willow Cart 0.1, this is {__version__}"),
        (FACTS | {"build": "0"}, True, f"has another build of Willow Cart {__version__}"),
        ({"lacks": "ImportError: no"}, True, f"cannot load Willow Cart {__version__}: ImportError"),
        (ValueError("bad marshal data"), True, "cannot run what it is sent: bad marshal data"),
        (FACTS, False, "does not share the folder"),
        (FACTS, True, "over a connection that is not encrypted"),
    ],
)
def test_a_worker_that_cannot_be_used_is_told_what_it_lacks(
    tmp_path: Path, facts: dict[str, str] | Exception, sees: bool, message: str
) -> None:
    cluster = OneWorker(facts, sees=sees)
    worker = Worker("tcp://127.0.0.1:4000", "heron", 2, 0.0)  # forwarded to another machine
    setup = Setup(partial(FakeAccess, {}), tmp_path, HaulPolicy())
    with Destination(tmp_path / "d") as destination:
        with closing(SharedFolder(destination)) as folder:
            admission = Admission(cluster)
            lacks = admission.lacks([worker], folder)
            if lacks[worker.address] is None:
                lacks = admission.join(MemberSetup("h", setup, None, folder), [worker.address])
        # One that answers after it was given up leaves nothing either.
        late = f"{PARTIAL}/proof-asked", f"{PARTIAL}/proof-answered"
        destination.create(late[0]).close()
        assert cluster_worker._prove_shared(tmp_path / "d", *late) == ""
        destination.delete(late[0])
        assert destination.names(".willow/partial") == []
    lack = lacks[worker.address]
    assert lack is not None
    assert message in lack.why
    assert lack.advice
    assert cluster.joined == []


@pytest.mark.parametrize(
    ("preload", "lack"),
    [
        ("import sys\nsys.modules['willow_cart.executors.cluster_worker'] = None\n",
         f"cannot load Willow Cart {__version__}: "),
        ("from willow_cart.executors import cluster_worker as w\nw.build_mark = lambda: '0'\n",
         "has another build of Willow Cart"),
        ("from willow_cart.platform import disks\ndisks.boot_mark = lambda: 'another'\n",
         "FEN"),
    ],
    ids=["without the package", "of another build", "without a secret's name"],
)  # fmt: skip
def test_each_worker_that_lacks_something_has_a_line(
    tmp_path: Path, place: StandIn, monkeypatch: pytest.MonkeyPatch, preload: str, lack: str
) -> None:
    place.exhibits["a.csv"] = Exhibit(b"a", members="ida:reedmace")
    with DaskCluster(tmp_path / "dask", preload) as dask:
        dask.add(2)
        monkeypatch.setenv("FEN", "reedmace")
        done = run(
            "haul", f"{place.base}/a.csv", "--into", "data", "--cluster", dask.address,
            "--user", "ida", "--password", "env:FEN", cwd=tmp_path,
        )  # fmt: skip
    assert done.code == 2, done.err
    lines = [line for line in done.err.splitlines() if "worker heron-" in line]
    assert len(lines) == 2, done.err
    assert all(lack in line and ";" in line for line in lines), lines
    assert "internal error" not in done.err
    assert files_in(tmp_path / "data") == {}


def test_workers_that_are_stopped_at_the_start_keep_nobody_waiting(
    tmp_path: Path, place: StandIn
) -> None:
    files = put_up(place, 20, 1, 1_000_000, speed=10_000_000)
    write_list(tmp_path, place, files)
    with DaskCluster(tmp_path / "dask") as dask:
        dask.add(3)
        for stopped in dask.workers[:2]:
            stopped.send_signal(signal.SIGSTOP)
        haul = ["haul", "list.txt", "--into", "data", "--cluster", dask.address]
        done = run(*haul, cwd=tmp_path)
    assert done.code == 0, done.err
    for name in ("heron-0", "heron-1"):
        assert f"worker {name} does not answer" in done.err
    assert files_in(tmp_path / "data") == files


def test_a_worker_that_alone_cannot_write_is_named_and_done_without(
    tmp_path: Path, place: StandIn
) -> None:
    files = put_up(place, 40, 4, 1_000_000, speed=10_000_000)
    write_list(tmp_path, place, files)
    with DaskCluster(tmp_path / "dask") as dask:
        dask.add_at("127.0.0.1", threads=2, before=("prlimit", "--fsize=1000"))
        dask.add(1)
        haul = ["haul", "list.txt", "--into", "data", "--cluster", dask.address]
        done = run(*haul, cwd=tmp_path)
        assert done.code == 0, done.err
        assert files_in(tmp_path / "data") == files
        assert done.err.count("worker heron-0: it cannot write there: ") == 1
        # Where no worker can, the files fail, each with its reason.
        dask.kill(dask.workers[1])
        wait_until("one is left", lambda: len(dask.client.scheduler_info()["workers"]) == 1)
        none = run(*haul[:-3], "again", *haul[-2:], cwd=tmp_path)
    assert none.code == 1, none.err
    assert "too large" in none.err.lower()


def test_what_is_named_on_the_command_line_is_fetched_by_workers_too(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    files = put_up(place, 9, 1, 3_000_000, speed=30_000_000)
    places = [f"{place.base}/{path}" for path in files]
    haul = ["haul", *places, "--into", "data", "--cluster", cluster.address, "--as", "file"]
    done = run(*haul, cwd=tmp_path)
    assert done.code == 0, done.err
    rows = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
    assert all(row["worker"] for row in rows), rows


def test_a_gap_is_kept_over_all_workers_redirects_included(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    times: list[float] = []

    def put(path: str, target: str) -> None:
        def answer(handler: Any) -> None:
            times.append(time.monotonic())
            if target:
                handler.send_response(302)
                handler.send_header("Location", target)
            else:
                handler.send_response(200)
            handler.send_header("Content-Length", "0" if target else "2")
            handler.end_headers()
            handler.wfile.write(b"" if target else b"ab")

        place.exhibits[path] = Exhibit(script=answer)

    for number in range(5):
        put(f"{number}.csv", f"/real/{number}.csv")
        put(f"real/{number}.csv", "")
    (tmp_path / "here").mkdir()
    write_list(tmp_path, place, {f"{n}.csv": b"" for n in range(5)})
    haul = ["haul", "list.txt", "--into", "data", "--cluster", cluster.address, "--gap", "0.25"]
    done = run(*haul, cwd=tmp_path)
    assert done.code == 0, done.err
    assert len(times) == 10
    assert min(later - earlier for earlier, later in pairwise(times)) > 0.2


def test_two_hauls_on_one_cluster_do_not_wait_for_each_other(
    tmp_path: Path, place: StandIn
) -> None:
    files = put_up(place, 0, 4, 8_000_000, speed=8_000_000)
    write_list(tmp_path, place, files)
    with DaskCluster(tmp_path / "dask") as dask:
        dask.add(2, threads=1)
        haul = ["haul", "list.txt", "--cluster", dask.address, "--strands", "3", "--into"]
        both = [start(*haul, into, cwd=tmp_path) for into in ("one", "two")]
        for each in both:
            out, err = each.communicate(timeout=PATIENCE)
            assert each.returncode == 0, (out, err)
    assert files_in(tmp_path / "one") == files_in(tmp_path / "two") == files


def test_hauls_leave_nothing_open_in_workers(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    files = put_up(place, 5, 1, 2_000_000, speed=20_000_000)
    write_list(tmp_path, place, files)

    def open_files() -> dict[str, list[str]]:
        told = cluster.client.run(_links_of_open_files)
        return {
            worker: [each for each in links if "data" in each] for worker, links in told.items()
        }

    for turn in range(2):
        into = f"data{turn}"
        done = run("haul", "list.txt", "--into", into, "--cluster", cluster.address, cwd=tmp_path)
        assert done.code == 0, done.err
    wait_until("all is closed", lambda: not any(open_files().values()))


def _links_of_open_files() -> list[str]:
    links = []
    for each in Path("/proc/self/fd").iterdir():
        with suppress(OSError):
            links.append(str(each.readlink()))
    return links


UNFORESEEN = (
    "import sys\n"
    "from willow_cart.executors.cluster_members import WorkerEntries\n"
    "def enter(self, member, notes): raise ZeroDivisionError\n"
    "WorkerEntries.enter = enter\n"
    "from willow_cart.cli.main import main\n"
    "sys.exit(main(sys.argv[1:]))\n"
)


def test_what_nobody_has_foreseen_ends_the_haul_in_order(
    tmp_path: Path, place: StandIn, cluster: DaskCluster
) -> None:
    files = put_up(place, 0, 3, 3_000_000, speed=1_000_000)
    write_list(tmp_path, place, files)
    words = ["haul", "list.txt", "--into", "data", "--cluster", cluster.address]
    done = subprocess.run(
        [sys.executable, "-c", UNFORESEEN, *words], cwd=tmp_path, timeout=PATIENCE, check=False,
        capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode, done
    assert "ZeroDivisionError" in done.stderr
    assert "Traceback" not in done.stderr
    wait_until("workers end their shares", lambda: open_shares(cluster) == 0)
    assert resumed_in(tmp_path, place, files) >= 0


def test_clients_that_cannot_be_used_are_refused_by_what_they_are(
    tmp_path: Path, place: StandIn, cluster: DaskCluster, monkeypatch: pytest.MonkeyPatch
) -> None:
    from distributed import Client

    closed: Any = Client(cluster.address, set_as_default=False)  # type: ignore[no-untyped-call]
    closed.close()
    asynchronous = SimpleNamespace(
        scheduler=None, sync=None, submit=None, asynchronous=True, status="running"
    )
    source = f"{place.base}/a.csv"
    for client, reason in [
        (closed, "a client that is closed"),
        (asynchronous, "an asynchronous client"),
        (7, "is int"),
    ]:
        with pytest.raises(UnusableCluster, match=reason):
            wc.haul(source, into=tmp_path / "data", cluster=client)
    (tmp_path / "dask.yaml").write_text("distributed: [\n")
    monkeypatch.setenv("DASK_CONFIG", str(tmp_path))
    done = run("haul", source, "--into", "data", "--cluster", cluster.address, cwd=tmp_path)
    assert done.code == 2
    assert "Dask's configuration: cannot be read" in done.err
    assert len(done.err.splitlines()) == 1, done.err


TLS = """
distributed:
  comm:
    require-encryption: true
    tls:
      ca-file: {certificate}
      client: {{cert: {certificate}, key: {certificate}}}
      scheduler: {{cert: {certificate}, key: {certificate}}}
"""


def test_another_authority_is_told_from_no_scheduler(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("named", "self_signed"):
        (tmp_path / name).mkdir()
        certificate = Path(__file__).parent / "support" / f"{name}.pem"
        text = TLS.format(certificate=certificate)
        (tmp_path / name / "dask.yaml").write_text(text)
    file = tmp_path / "scheduler.json"
    scheduler = subprocess.Popen(
        [sys.executable, "-m", "dask", "scheduler", "--host", "127.0.0.1", "--port", "0",
         "--protocol", "tls", "--no-dashboard", "--scheduler-file", str(file)],
        env={**os.environ, "DASK_CONFIG": str(tmp_path / "named")},
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        wait_until("it has started", lambda: file.exists() and file.read_text().endswith("}"))
        monkeypatch.setenv("DASK_CONFIG", str(tmp_path / "self_signed"))
        words = ["haul", "http://127.0.0.1:9/a.csv", "--into", "x", "--cluster", str(file)]
        done = run(*words, cwd=tmp_path)
    finally:
        scheduler.kill()
        scheduler.wait()
    assert (done.code, len(done.err.splitlines())) == (2, 1), done.err
    assert "TLS fails: CERTIFICATE_VERIFY_FAILED" in done.err


def test_a_scheduler_that_was_started_anew_is_told_from_one_without_workers() -> None:
    class Identities:
        """A client of Dask's, as far as the roll call needs it."""

        scheduler: Any = property(lambda self: self)
        identity = None
        names = iter(["Scheduler-1", "Scheduler-1", "Scheduler-2"])

        def sync(self, *_: object, **__: object) -> dict[str, Any]:
            return {"id": next(self.names), "workers": {}}

    client = ClusterClient.__new__(ClusterClient)
    client._client, client._id, client._signs, client.shown = Identities(), "", {}, "tcp://fen"
    assert client.workers() == client.workers() == {}
    with pytest.raises(Gone) as caught:
        client.workers()
    assert caught.value.reason == "the scheduler was started anew"


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
        with make_access([SurveyRequest.read(given)], 2, Observer()) as access:
            return access.sharing.open_maker({host})

    assert openly(f"file:{tmp_path}/secret") is None
    pickled = pickle.dumps(openly("env:FEN"))
    assert b"reedmace" not in pickled
    with pickle.loads(pickled)() as there:
        delivery = there.open(f"{place.base}/members.csv")
        assert delivery.read() == b"inside"
        delivery.close()
