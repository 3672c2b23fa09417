"""Broken off at any moment: nothing that arrived is lost, and nothing half has a name."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
from contextlib import suppress
from pathlib import Path

import pytest

from tests.support.disks import disk
from tests.support.program import (
    files_in,
    kill_haul,
    partial_bytes,
    run,
    sha256,
    start,
    wait_for_bytes,
)
from willow_cart.demo.stand_in import Exhibit, StandIn

KILLS = int(os.environ.get("WILLOW_CART_KILLS", "10"))


def put_up(place: StandIn, count: int, size: int, speed: float | None) -> dict[str, bytes]:
    """Files of random bytes, the last ones large and slow."""
    rng = random.Random(2031)
    files = {f"small/{n}.csv": rng.randbytes(3000) for n in range(count)}
    files |= {f"large/{n}.wav": rng.randbytes(size) for n in range(3)}
    for path, content in files.items():
        place.exhibits[path] = Exhibit(content, speed=speed if path.startswith("large") else None)
    return files


@pytest.mark.parametrize("number", range(KILLS))
def test_killed_outright_and_run_again_everything_is_identical(
    tmp_path: Path, place: StandIn, number: int
) -> None:
    """Kills come at random moments; whatever has its name is whole, and a last run ends it."""
    rng = random.Random(number)
    files = put_up(place, 150, 1_500_000, speed=4_000_000)
    (tmp_path / "list.txt").write_text("".join(f"{place.base}/{path}\n" for path in files))
    haul = ["haul", "list.txt", "--into", "data", "--strands", rng.choice(["1", "4"])]
    killed = 0
    while True:
        process = start(*haul, cwd=tmp_path)
        with suppress(subprocess.TimeoutExpired):
            process.communicate(timeout=rng.uniform(0.15, 0.9) if killed < 4 else 60)
        if process.poll() is not None:
            break
        process.kill()
        process.communicate()
        killed += 1
        for path, content in files_in(tmp_path / "data").items():
            assert content == files[path], f"{path} has its name and is not whole"
    assert process.returncode == 0
    assert files_in(tmp_path / "data") == files
    rows = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
    assert {row["path"]: row["sha256"] for row in rows} == {
        path: sha256(content) for path, content in files.items()
    }
    assert list((tmp_path / "data" / ".willow" / "partial").iterdir()) == []


def test_a_large_file_goes_on_from_the_byte_where_it_was_killed(
    tmp_path: Path, place: StandIn
) -> None:
    files = put_up(place, 0, 3_000_000, speed=2_500_000)
    address = f"{place.base}/large/0.wav"
    kill_haul(address, into=tmp_path / "data", after_bytes=1_000_000)
    had = partial_bytes(tmp_path / "data")
    assert files_in(tmp_path / "data") == {}
    place.requests.clear()
    outcome = run("haul", address, "--into", "data", "--keep-folders", cwd=tmp_path)
    (row,) = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
    # What came last has no digest yet, and comes once more.
    assert had / 2 < (resumed := row["resumed"]) <= had
    assert "resuming at" in outcome.err
    assert [request.fields["range"] for request in place.requests] == [f"bytes={resumed}-"]
    assert row["received"] == 3_000_000 - resumed
    assert files_in(tmp_path / "data") == {"large/0.wav": files["large/0.wav"]}


def test_a_file_that_changed_while_the_haul_was_down_starts_over(
    tmp_path: Path, place: StandIn
) -> None:
    put_up(place, 0, 3_000_000, speed=2_500_000)
    address = f"{place.base}/large/0.wav"
    kill_haul(address, into=tmp_path / "data", after_bytes=500_000)
    newer = random.Random(7).randbytes(3_000_000)
    place.exhibits["large/0.wav"] = Exhibit(newer)
    run("haul", address, "--into", "data", "--keep-folders", cwd=tmp_path)
    assert files_in(tmp_path / "data") == {"large/0.wav": newer}
    assert list((tmp_path / "data" / ".willow" / "partial").iterdir()) == []


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_asked_to_stop_it_keeps_what_came_and_says_how_to_go_on(
    tmp_path: Path, place: StandIn, number: int
) -> None:
    files = put_up(place, 5, 2_000_000, speed=1_500_000)
    (tmp_path / "list.txt").write_text("".join(f"{place.base}/{path}\n" for path in files))
    process = start("haul", "list.txt", "--into", "data", cwd=tmp_path)
    wait_for_bytes(tmp_path / "data", 1_000_000, process)
    process.send_signal(number)
    out, err = process.communicate(timeout=240)
    assert process.returncode == 130
    assert b"arrived" in out
    assert b"stopped; 3 files left. Run the same command to resume." in err
    receipt = run("receipt", "data", "--json", cwd=tmp_path).json()
    assert (receipt["exit_code"], receipt["counts"]) == (130, {"arrived": 5})
    outcome = run("haul", "list.txt", "--into", "data", cwd=tmp_path)
    assert outcome.code == 0
    assert outcome.err.count("from an earlier haul") == 3
    assert files_in(tmp_path / "data") == files


def test_a_folder_on_a_disk_that_is_not_mounted_is_refused_and_an_emptied_one_is_not(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["a.csv"] = Exhibit(b"1")
    haul = ("haul", f"{place.base}/a.csv", "--into", "drive/data")
    with disk(tmp_path / "drive", "size=4m") as drive:
        for _ in range(2):
            assert run(*haul, cwd=tmp_path).code == 0
            assert files_in(drive / "data") == {"a.csv": b"1"}
            shutil.rmtree(drive / "data")  # on purpose
        assert run(*haul, cwd=tmp_path).code == 0
    for folder in ("drive", "drive/data"):
        (tmp_path / folder).mkdir(exist_ok=True)
        refused = run(*haul, cwd=tmp_path)
        assert refused.code == 2
        assert "was on another disk when it was hauled into on" in refused.err
        assert "mount that disk, or start over here with --start-over" in refused.err
    assert run(*haul, "--preview", cwd=tmp_path).code == 0
    assert run(*haul, "--start-over", cwd=tmp_path).code == 0
    shutil.rmtree(tmp_path / "drive" / "data")
    assert run(*haul, cwd=tmp_path).code == 0, "it was emptied on the disk that it is on now"


@pytest.mark.parametrize("where", ["first", "middle", "last", "beyond"])
@pytest.mark.parametrize("strands", ["1", "3"])
@pytest.mark.parametrize("after", [1, 400_000, 1_500_000])
def test_what_is_gone_on_with_is_what_was_fetched(
    tmp_path: Path, place: StandIn, where: str, strands: str, after: int
) -> None:
    """Bytes that were changed after a kill, however early it came, are noticed."""
    files = put_up(place, 0, 3_000_000, speed=2_500_000)
    address = f"{place.base}/large/0.wav"
    words = ("haul", address, "--into", "data", "--keep-folders", "--strands", strands)
    process = start(*words, cwd=tmp_path)
    wait_for_bytes(tmp_path / "data", after, process)
    process.kill()
    process.communicate()
    for partial in (tmp_path / "data" / ".willow" / "partial").iterdir():
        with partial.open("r+b") as file:
            size = partial.stat().st_size
            at = {"first": 0, "middle": size // 2, "last": max(0, size - 500), "beyond": size}
            file.seek(at[where])
            file.write(b"another" * 100)
    outcome = run(*words, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "data") == {"large/0.wav": files["large/0.wav"]}
