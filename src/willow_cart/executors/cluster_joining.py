"""Checks of the workers of a cluster before they get a share in a haul."""

from __future__ import annotations

import secrets
import threading
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from typing import Any

from willow_cart.destination import PARTIAL, Destination
from willow_cart.errors import UnusableCluster
from willow_cart.events import WorkerUnusable
from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import ClusterClient, Worker
from willow_cart.executors.cluster_worker import Setup
from willow_cart.observer import Observer
from willow_cart.platform import disks, files
from willow_cart.structs import Value
from willow_cart.version import __version__

_SAME_VERSION = "install the same version for the workers, with pip, and start them again"

# Workers that have not answered so long after the first of them join later.
_LATE_SECONDS = 3.0


class Lack(Value):
    """Why a worker cannot be used.

    Attributes:
        why: a clause for the user.
        advice: what to do about it.
    """

    why: str
    advice: str


class SharedFolder:
    """Files in the destination by which workers prove that they have it, too; thread-safe.

    Args:
        destination: the folder.
    """

    def __init__(self, destination: Destination) -> None:
        self.root = destination.root.absolute()
        self.token = secrets.token_hex(16)
        self._destination = destination
        self._lock = threading.Lock()
        self._made: list[str] = []
        self._is_closed = False
        self.asked = self._make("asked", self.token)

    def make_answer(self) -> str:
        """Return the path of an empty file for a worker's answer.

        A worker creates nothing: one that answers after it was given up leaves no file.

        Raises:
            CannotStore: it cannot be written.
        """
        return self._make(f"answer-{secrets.token_hex(4)}", "")

    def _make(self, name: str, content: str) -> str:
        path = f"{PARTIAL}/proof-{self.token}-{name}"
        with self._lock:
            if not self._is_closed:
                self._made.append(path)
                with self._destination.create(path) as file:
                    file.write(content.encode())
                    file.flush()
                    files.sync(file.fileno())
        return path

    def is_answered(self, path: str) -> bool:
        """Whether a worker has written the token into its file."""
        with suppress(OSError), self._destination.open(path) as answer:
            return answer.read(100).decode("ascii", "replace") == self.token
        return False

    def close(self) -> None:
        """Delete the files; make no more of them."""
        with self._lock:
            self._is_closed = True
            for path in self._made:
                with suppress(OSError):
                    self._destination.delete(path)


class MemberSetup(Value):
    """What a worker is given.

    Attributes:
        haul: its name.
        setup: what to do, and where; for workers that may have all secrets.
        open_setup: the same with names in place of secrets, for the others; None if these would
            lack one.
        folder: proves that they have the destination.
    """

    haul: str
    setup: Setup
    open_setup: Setup | None
    folder: SharedFolder


class Admission:
    """Finds out which workers can be used, and gives them their shares.

    Args:
        client: talks to the scheduler.

    Attributes:
        client: the same.
        late: the addresses of workers that did not answer while others did.
    """

    def __init__(self, client: ClusterClient) -> None:
        self.client = client
        self.late: set[str] = set()
        self._boots: dict[str, str] = {}

    def lacks(self, workers: Sequence[Worker], folder: SharedFolder) -> dict[str, Lack | None]:
        """Ask workers what they have, all at once.

        Args:
            folder: proves that they have the destination.

        Returns:
            What each of them lacks, by address, or None for nothing. Those that do not answer
            while others do are left out.

        Raises:
            Gone: the scheduler does not answer.
        """
        answers = {worker.address: folder.make_answer() for worker in workers}
        root, asked = folder.root, folder.asked
        told = self.client.ask(
            _make_probe(),
            {address: (root, asked, answer) for address, answer in answers.items()},
            late=_LATE_SECONDS,
        )
        self.late |= answers.keys() - told.keys()
        self.late -= told.keys()
        lacks = {address: self._lack_in(facts) for address, facts in told.items()}
        for address in [address for address, lack in lacks.items() if lack is None]:
            if told[address]["read"] != folder.token or not folder.is_answered(answers[address]):
                lacks[address] = Lack(
                    f"does not share the folder {folder.root} with this machine",
                    "name a folder with --into that all workers see under the same path, and may"
                    " write",
                )
            self._boots[address] = told[address]["boot"]
        return lacks

    @staticmethod
    def _lack_in(facts: Mapping[str, str] | Exception) -> Lack | None:
        if isinstance(facts, Exception):
            return Lack(f"cannot run what it is sent: {facts}", _SAME_VERSION)
        if lacks := facts.get("lacks"):
            return Lack(f"cannot load Willow Cart {__version__}: {lacks}", _SAME_VERSION)
        if facts["version"] != __version__:
            return Lack(f"has Willow Cart {facts['version']}, this is {__version__}", _SAME_VERSION)
        if facts["build"] != cluster_worker.build_mark():
            return Lack(
                f"has another build of Willow Cart {__version__} than this machine", _SAME_VERSION
            )
        return None

    def is_private(self, address: str) -> bool:
        """Whether secrets may go to a worker: by TLS, or without leaving this machine.

        An address does not tell: a port of this machine may be one that is forwarded to another.
        """
        if self.client.shown.startswith("inproc://"):
            return True
        if all(each.startswith("tls://") for each in (self.client.shown, address)):
            return True
        boot = disks.boot_mark()
        return bool(boot) and self.client.boot_mark == self._boots.get(address) == boot

    def join(self, given: MemberSetup, workers: Sequence[str]) -> dict[str, Lack | None]:
        """Give workers that lack nothing a share in a haul, all at once.

        Returns:
            What kept each of them from it, by address; None for nothing. Those that do not answer
            while others do are left out.

        Raises:
            Gone: the scheduler does not answer.
        """
        outcomes: dict[str, Lack | None] = {}
        args = {}
        for address in workers:
            setup = given.setup if self.is_private(address) else given.open_setup
            if setup is None:
                outcomes[address] = Lack(
                    "would get the sign-ins of this haul over a connection that is not encrypted",
                    "use tls:// (the guide shows how), or give them by env: names that workers"
                    " have too",
                )
            else:
                args[address] = (given.haul, setup, disks.boot_mark())
        for address, failed in self.client.ask(
            cluster_worker.join, args, late=_LATE_SECONDS
        ).items():
            if isinstance(failed, Exception):
                outcomes[address] = Lack(f"cannot begin its share: {failed}", _SAME_VERSION)
            else:
                outcomes[address] = Lack(*failed) if failed else None
        return outcomes


def name_unusable(
    workers: Sequence[Worker], lacks: Mapping[str, Lack | None], observer: Observer
) -> None:
    """Say in a line each which workers cannot be used, and why."""
    for worker in workers:
        if lack := lacks.get(worker.address):
            observer.note(WorkerUnusable(worker.name, f"{lack.why}; {lack.advice}"))


def require_usable(
    client: ClusterClient,
    workers: Sequence[Worker],
    lacks: Mapping[str, Lack | None],
    observer: Observer,
) -> None:
    """Refuse a cluster of which a worker cannot be used, or none answers.

    Those that do not answer while others do are named, and asked again.

    Raises:
        UnusableCluster: it is that.
    """
    unusable = [worker for worker in workers if lacks.get(worker.address)]
    if unusable:
        name_unusable(unusable[1:], lacks, observer)
        lack = lacks[unusable[0].address]
        assert lack is not None, "these are the ones that lack something"
        raise UnusableCluster(unusable[0].shown, lack.why, lack.advice)
    if not lacks:
        raise UnusableCluster(client.shown, "no worker answers", "look into the workers' logs")
    for worker in workers:
        if worker.address not in lacks:
            observer.note(
                WorkerUnusable(worker.name, "does not answer; it gets files as soon as it does")
            )


def _make_probe() -> Callable[..., Any]:
    """Return a function that is sent as code: a worker may lack this package, or have another."""

    async def probe(root: Any, asked: str, answered: str) -> dict[str, str]:
        import asyncio

        try:
            from willow_cart.executors.cluster_worker import describe

            return await asyncio.to_thread(describe, root, asked, answered)
        except Exception as error:
            return {"lacks": f"{type(error).__name__}: {error}"}

    return probe
