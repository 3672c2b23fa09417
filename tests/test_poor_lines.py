"""Over lines that cut, delay, throttle and fall silent, all comes home the same from nginx."""

from __future__ import annotations

import random
import socket
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import pytest

from tests.support.line import Weather, line
from tests.support.program import files_in, run
from tests.support.servers import NGINX, nginx
from willow_cart.protocols.sockets import SocketGuard

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


def test_an_address_that_does_not_answer_holds_up_no_other(monkeypatch: pytest.MonkeyPatch) -> None:
    """As a host has them whose first address leads nowhere (RFC 8305)."""
    with ExitStack() as stack:
        server = stack.enter_context(socket.create_server(("127.0.0.1", 0)))
        port = server.getsockname()[1]
        hole = stack.enter_context(socket.socket())
        hole.bind(("127.0.0.3", port))
        hole.listen(0)
        for _ in range(4):  # nobody accepts these, and no more are let in
            filler = stack.enter_context(socket.socket())
            filler.setblocking(False)
            filler.connect_ex(("127.0.0.3", port))
        for hosts in ([3, 1], [9, 3, 1], [3, 9, 1], [1, 3]):
            found = [(socket.AF_INET, 1, 6, "", (f"127.0.0.{each}", port)) for each in hosts]
            monkeypatch.setattr(socket, "getaddrinfo", lambda *_, found=found, **__: found)
            with SocketGuard().connect(("fen.example", port), 10_000) as line_:
                assert line_.getpeername() == ("127.0.0.1", port)
        refusing = [(socket.AF_INET, 1, 6, "", ("127.0.0.9", port))] * 2
        monkeypatch.setattr(socket, "getaddrinfo", lambda *_, **__: refusing)
        with pytest.raises(ConnectionRefusedError):
            SocketGuard().connect(("fen.example", port), 10_000)
