"""A cluster of several hosts, each with a line of its own: network namespaces with slow links.

Run by `make nightly`; it needs the right to make namespaces, and measures time.
"""

from __future__ import annotations

import os
import random
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.dask_cluster import DaskCluster
from tests.support.program import PATIENCE, files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn

HOSTS = 3
LINE = "16mbit"  # two megabytes a second

pytestmark = pytest.mark.skipif(
    not os.environ.get("WILLOW_CART_HOSTS") or os.geteuid() != 0,
    reason="measures time; set WILLOW_CART_HOSTS=1 as root",
)


def ip(*words: str) -> None:
    subprocess.run(["ip", *words], check=True)


@pytest.fixture(scope="module")
def network() -> Iterator[str]:
    """A bridge with an address; namespaces heron-0 and so on hang on it by slow lines."""
    try:
        ip("link", "add", "fen", "type", "bridge")
    except (OSError, subprocess.CalledProcessError):
        pytest.skip("no right to make a network")
    try:
        ip("addr", "add", "10.87.0.1/24", "dev", "fen")
        ip("link", "set", "fen", "up")
        for number in range(HOSTS):
            name, here = f"heron-{number}", f"reed{number}"
            ip("netns", "add", name)
            ip("link", "add", here, "type", "veth", "peer", "name", "eth0", "netns", name)
            ip("link", "set", here, "master", "fen", "up")
            ip("-n", name, "addr", "add", f"10.87.0.{10 + number}/24", "dev", "eth0")
            ip("-n", name, "link", "set", "eth0", "up")
            ip("-n", name, "link", "set", "lo", "up")
            shape = ["rate", LINE, "burst", "32kb", "latency", "100ms"]
            subprocess.run(["tc", "qdisc", "add", "dev", here, "root", "tbf", *shape], check=True)
        yield "10.87.0.1"
    finally:
        for number in range(HOSTS):
            subprocess.run(["ip", "netns", "del", f"heron-{number}"], check=False)
        ip("link", "del", "fen")


def test_three_hosts_bring_nearly_three_times_what_one_brings(tmp_path: Path, network: str) -> None:
    rng = random.Random(2031)
    seconds = {}
    with StandIn({}, host=network) as place:
        for number in range(30):
            place.exhibits[f"{number}.wav"] = Exhibit(rng.randbytes(4_000_000))
        (tmp_path / "list.txt").write_text("".join(f"{place.base}/{e}\n" for e in place.exhibits))
        for hosts in (1, HOSTS):
            with DaskCluster(tmp_path / f"dask{hosts}", host=network) as dask:
                for number in range(hosts):
                    dask.add_at(
                        f"10.87.0.{10 + number}", threads=2,
                        before=("ip", "netns", "exec", f"heron-{number}"),
                    )  # fmt: skip
                dask.client.wait_for_workers(hosts, timeout=PATIENCE)
                began = time.monotonic()
                into = f"data{hosts}"
                done = run(
                    "haul", "list.txt", "--into", into, "--cluster", dask.address, "--lanes", "6",
                    "--lanes-per-host", "6", "--strands", "6", cwd=tmp_path, timeout=240,
                )  # fmt: skip
                seconds[hosts] = time.monotonic() - began
            assert done.code == 0, done.err
            contents = {name: exhibit.content for name, exhibit in place.exhibits.items()}
            assert files_in(tmp_path / into) == contents
    print(f"{seconds[1] / seconds[HOSTS]:.2f} times with {HOSTS} hosts: {seconds}")
    assert seconds[1] / seconds[HOSTS] >= 0.9 * HOSTS
