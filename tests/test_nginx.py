"""Against a real nginx."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.program import files_in, kill_haul, partial_bytes, run
from tests.support.servers import NGINX, nginx

pytestmark = pytest.mark.skipif(NGINX is None, reason="nginx is not installed")


@pytest.fixture(scope="module")
def files() -> dict[str, bytes]:
    rng = random.Random(5)
    made = {f"levels/{n:03d}.csv": rng.randbytes(rng.randrange(0, 20_000)) for n in range(300)}
    return made | {"dawn.wav": rng.randbytes(4_000_000), "empty.csv": b""}


@pytest.fixture
def server(tmp_path: Path, files: dict[str, bytes]) -> Iterator[str]:
    root = tmp_path / "www"
    for path, content in files.items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_bytes(content)
    # Connections are closed by the server every few requests, as busy servers do.
    with nginx(root, tmp_path / "nginx", keepalive_requests=7) as base:
        yield base


def test_hundreds_of_files_come_home_and_the_second_run_fetches_none(
    tmp_path: Path, server: str, files: dict[str, bytes]
) -> None:
    sources = [
        f"{server}/levels/{{000..299}}.csv",
        f"{server}/moved/dawn.wav",
        f"{server}/empty.csv",
    ]
    haul = ["haul", *sources, "--into", "data", "--keep-folders"]
    outcome = run(*haul, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    expected = {("moved/" if p == "dawn.wav" else "") + p: content for p, content in files.items()}
    assert files_in(tmp_path / "data") == expected
    (row,) = (
        row
        for row in run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
        if row["path"] == "moved/dawn.wav"
    )
    assert row["final_address"] == f"{server}/dawn.wav"
    again = run(*haul, cwd=tmp_path)
    assert "all unchanged" in again.last_line


def test_a_killed_haul_goes_on_with_the_range_that_is_missing(
    tmp_path: Path, server: str, files: dict[str, bytes]
) -> None:
    haul = ["haul", f"{server}/slow/dawn.wav", "--into", "data", "--keep-folders"]
    kill_haul(f"{server}/slow/dawn.wav", into=tmp_path / "data", after_bytes=500_000)
    had = partial_bytes(tmp_path / "data")
    assert run(*haul, cwd=tmp_path).code == 0
    assert files_in(tmp_path / "data") == {"slow/dawn.wav": files["dawn.wav"]}
    log = (tmp_path / "nginx" / "access.log").read_text().splitlines()
    came = re.search(r'" 206 (\d+) ', log[-1])
    assert came is not None
    # Of what had come, all but the last piece was vouched for when it was killed.
    assert 4_000_000 - had <= int(came[1]) < 4_000_000


def test_a_server_that_limits_requests_is_waited_for(tmp_path: Path, server: str) -> None:
    addresses = f"{server}/busy/levels/{{000..005}}.csv"
    outcome = run("haul", addresses, "--into", "data", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert "503" in outcome.err
    assert "6 chosen: all arrived" in outcome.last_line
