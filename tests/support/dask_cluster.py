"""A Dask scheduler and workers on this machine, as processes that can be killed one by one.

They are forked from a process that has loaded Dask, which takes a second each time otherwise.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from importlib import import_module
from pathlib import Path
from typing import Any, Self

import dask
from distributed import Client

from tests.support.program import PATIENCE

_QUIET = {
    "DASK_DISTRIBUTED__WORKER__PROFILE__ENABLED": "False",
    "DASK_LOGGING__DISTRIBUTED": "critical",
}
_FORKED = multiprocessing.get_context("forkserver")
_FORKED.set_forkserver_preload(
    ["distributed.cli.dask_scheduler", "distributed.cli.dask_worker",
     "willow_cart.executors.cluster_worker", __name__]
)  # fmt: skip


class Forked:
    """A process that is forked from the one that has loaded Dask, used like a `Popen`."""

    def __init__(self, words: Sequence[str], folder: Path, environment: dict[str, str]) -> None:
        arguments = (words, folder, environment)
        self._process = _FORKED.Process(target=_serve, args=arguments, daemon=True)
        self._process.start()

    @property
    def pid(self) -> int | None:
        """Return its number; None before it has started."""
        return self._process.pid

    def poll(self) -> int | None:
        """Return the exit code; None while it runs."""
        return self._process.exitcode

    def wait(self) -> None:
        """Wait for its end."""
        self._process.join()

    def kill(self) -> None:
        """Kill it outright."""
        self._process.kill()

    def send_signal(self, number: int) -> None:
        """Send a signal to it."""
        if self._process.pid is not None:
            os.kill(self._process.pid, number)


Member = Forked | subprocess.Popen[bytes]
"""A scheduler or a worker."""


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
        self.workers: list[Member] = []
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
            self._begin(self._host, threads)
        self.client.wait_for_workers(len(self.living), timeout=PATIENCE)
        return self

    def add_at(self, host: str, *, threads: int, before: Sequence[str] = ()) -> None:
        """Start a worker with an address, perhaps by a command before its own."""
        self._begin(host, threads, before)
        self.client.wait_for_workers(len(self.living), timeout=PATIENCE)

    def _begin(self, host: str, threads: int, before: Sequence[str] = ()) -> None:
        self.workers.append(
            self._start(
                    "worker", "--scheduler-file", str(self.file), "--no-nanny", "--no-dashboard",
                    "--nthreads", str(threads), "--host", host, "--death-timeout", "60",
                    "--local-directory", str(self._folder), "--preload", str(self._preload),
                    "--name", f"heron-{len(self.workers)}", before=before,
                )
            )  # fmt: skip

    @property
    def living(self) -> list[Member]:
        """The workers that were not killed."""
        return [each for each in self.workers if each.poll() is None]

    def kill(self, worker: Member) -> None:
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

    def _start(self, *words: str, before: Sequence[str] = ()) -> Member:
        environment = {**os.environ, **_QUIET}
        if not before:
            return Forked(words, self._folder, environment)
        return subprocess.Popen(
            [*before, sys.executable, "-m", "dask", *words], cwd=self._folder, env=environment,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip


def _serve(words: Sequence[str], folder: Path, environment: dict[str, str]) -> None:
    """Be the scheduler or the worker that a command of Dask's starts."""
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environment)
    dask.config.refresh()
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    os.dup2(nowhere, 2)
    kind, *options = words
    import_module(f"distributed.cli.dask_{kind}").main(options)


def wait_until(what: str, is_so: Callable[[], object]) -> None:
    """Wait until a condition holds."""
    deadline = time.monotonic() + PATIENCE
    while not is_so():
        assert time.monotonic() < deadline, what
        time.sleep(0.02)
