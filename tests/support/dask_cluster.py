"""A Dask scheduler and workers on this machine, as processes that can be killed one by one."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Self

from distributed import Client

from tests.support.program import PATIENCE

_DASK = [sys.executable, "-m", "dask"]
_QUIET = {
    "DASK_DISTRIBUTED__WORKER__PROFILE__ENABLED": "False",
    "DASK_LOGGING__DISTRIBUTED": "critical",
}


class DaskCluster:
    """A scheduler with workers, each a process of its own.

    Args:
        folder: where they keep what they need.
        preload: a script that each worker runs first.
        host: the address of the scheduler, and of workers that have no other.
    """

    def __init__(self, folder: Path, preload: str = "", *, host: str = "127.0.0.1") -> None:
        self._folder = folder
        self._host = host
        folder.mkdir(parents=True, exist_ok=True)
        self.file = folder / "scheduler.json"
        self._preload = folder / "preload.py"
        self._preload.write_text(preload)
        self.workers: list[subprocess.Popen[bytes]] = []
        self.scheduler = self._start(
            "scheduler", "--host", host, "--port", "0", "--scheduler-file", str(self.file),
            "--no-dashboard",
        )  # fmt: skip
        self.client: Any = Client(  # type: ignore[no-untyped-call]
            scheduler_file=str(self.file), timeout=PATIENCE, set_as_default=False
        )

    @property
    def address(self) -> str:
        """The scheduler's."""
        return str(self.client.scheduler.address)

    def add(self, count: int = 1, *, threads: int = 2) -> Self:
        """Start workers, and wait until the scheduler knows them."""
        for _ in range(count):
            self.add_at(self._host, threads=threads)
        return self

    def add_at(self, host: str, *, threads: int, before: Sequence[str] = ()) -> None:
        """Start a worker with an address, perhaps by a command before its own."""
        self.workers.append(
            self._start(
                    "worker", "--scheduler-file", str(self.file), "--no-nanny", "--no-dashboard",
                    "--nthreads", str(threads), "--host", host, "--death-timeout", "60",
                    "--local-directory", str(self._folder), "--preload", str(self._preload),
                    "--name", f"heron-{len(self.workers)}", before=before,
                )
            )  # fmt: skip
        self.client.wait_for_workers(len(self.living), timeout=PATIENCE)

    @property
    def living(self) -> list[subprocess.Popen[bytes]]:
        """The workers that were not killed."""
        return [each for each in self.workers if each.poll() is None]

    def kill(self, worker: subprocess.Popen[bytes]) -> None:
        """Kill a worker outright."""
        worker.kill()
        worker.wait()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.client.close()
        for process in (*self.workers, self.scheduler):
            if process.poll() is None:
                process.send_signal(signal.SIGCONT)
                process.kill()
            process.wait()

    def _start(self, *words: str, before: Sequence[str] = ()) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [*before, *_DASK, *words], cwd=self._folder, env={**os.environ, **_QUIET},
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip


def wait_until(what: str, is_so: Callable[[], object]) -> None:
    """Wait until a condition holds."""
    deadline = time.monotonic() + PATIENCE
    while not is_so():
        assert time.monotonic() < deadline, what
        time.sleep(0.02)
