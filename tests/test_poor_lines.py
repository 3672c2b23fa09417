"""Over lines that cut, delay, throttle and fall silent, all comes home the same from nginx."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.line import Weather, line
from tests.support.program import files_in, run
from tests.support.servers import NGINX, nginx

pytestmark = pytest.mark.skipif(NGINX is None, reason="nginx is not installed")


@pytest.fixture(scope="module")
def files() -> dict[str, bytes]:
    rng = random.Random(2031)
    made = {f"levels/{n:02d}.csv": rng.randbytes(rng.randrange(30_000)) for n in range(40)}
    return made | {f"sounds/{n}.wav": rng.randbytes(2_500_000) for n in range(3)}


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory, files: dict[str, bytes]) -> Iterator[str]:
    folder = tmp_path_factory.mktemp("nginx")
    for path, content in files.items():
        (folder / "www" / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / "www" / path).write_bytes(content)
    with nginx(folder / "www", folder / "nginx") as base:
        yield base


@pytest.mark.parametrize("seed", range(20))
def test_all_comes_home_the_same_whatever_the_line_does(
    tmp_path: Path, server: str, files: dict[str, bytes], seed: int
) -> None:
    rng = random.Random(seed)
    weather = Weather(
        latency=rng.choice([0.0, 0.01]),
        speed=rng.choice([None, 5e6]),
        cuts=rng.uniform(0.2, 0.6),
        longest=rng.choice([20_000, 1_000_000]),
        silences=0.05,
    )
    with line(server, weather, seed) as place:
        (tmp_path / "list.txt").write_text("".join(f"{place}/{path}\n" for path in files))
        outcome = run(
            "haul", "list.txt", "--into", "data", "--strands", rng.choice(["1", "4", "auto"]),
            "--attempts", "50", "--pause", "0.02", "--stall-after", "0.4", cwd=tmp_path,
        )  # fmt: skip
        assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "data") == files
    assert list((tmp_path / "data" / ".willow" / "partial").iterdir()) == []
    receipt = run("receipt", "data", "--json", cwd=tmp_path).json()
    assert receipt["counts"] == {"arrived": len(files)}
    # What had arrived was not received again.
    for row in receipt["files"]:
        assert row["received"] == len(files[row["path"]]), row["path"]
