"""What is proved of a worker before it gets a share in a haul."""

from __future__ import annotations

import secrets
from collections.abc import Collection
from contextlib import suppress
from dataclasses import dataclass

from willow_cart.destination import PARTIAL, Destination
from willow_cart.errors import UnusableCluster, WillowCartError
from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import ClusterClient, Gone, Worker
from willow_cart.executors.worker import Setup
from willow_cart.platform import files
from willow_cart.version import __version__


@dataclass(frozen=True, slots=True)
class MemberSetup:
    """What a worker is given.

    Attributes:
        haul: its name.
        setup: what to do, and where; for workers that may have all secrets.
        open_setup: the same with names in place of secrets, for the others; None if these would
            lack one.
        boot: tells the start of this machine from every other.
        destination: where a token is written that it has to read.
        proved: the addresses of workers that need not be tested again.
    """

    haul: str
    setup: Setup
    open_setup: Setup | None
    boot: str
    destination: Destination
    proved: Collection[str] = ()


def let_join(client: ClusterClient, worker: Worker, given: MemberSetup) -> None:
    """Give a worker a share in a haul.

    Raises:
        UnusableCluster: it has another version, does not see the destination, or may not have the
            secrets that it needs.
        Gone: it does not answer any more.
    """
    if worker.address not in given.proved:
        require_usable(client, worker, given.destination)
    setup = given.setup if client.is_private(worker.address) else given.open_setup
    if setup is None:
        raise UnusableCluster(
            worker.shown,
            "would get the sign-ins of this haul over a connection that is not encrypted",
            "use tls:// (the guide shows how), or give them by env: names that workers have too",
        )
    try:
        client.call(worker.address, cluster_worker.join, given.haul, setup, given.boot)
    except WillowCartError as error:
        raise UnusableCluster(worker.shown, str(error), error.advice) from error


def require_usable_workers(client: ClusterClient, destination: Destination) -> frozenset[str]:
    """Refuse a cluster without workers, or with one that cannot be used, before any work is done.

    Returns:
        The addresses of the workers that were tested.

    Raises:
        UnusableCluster: it is that.
    """
    proved = set()
    for worker in client.wait_for_workers():
        with suppress(Gone):  # it has just ended, and will not be counted on
            require_usable(client, worker, destination)
            proved.add(worker.address)
    return frozenset(proved)


def require_usable(client: ClusterClient, worker: Worker, destination: Destination) -> None:
    """Refuse a worker of another version, or one that does not see the destination.

    Raises:
        UnusableCluster: it is that.
        Gone: it does not answer any more.
    """
    require_version(client, worker)
    _require_shared(client, worker, destination)


def require_version(client: ClusterClient, worker: Worker) -> None:
    """Refuse a worker of another version.

    Raises:
        UnusableCluster: it is that, or lacks the package.
        Gone: it does not answer any more.
    """
    try:
        there = client.call(worker.address, cluster_worker.version)
    except (ImportError, AttributeError) as error:
        raise UnusableCluster(
            worker.shown,
            f"cannot load Willow Cart {__version__}: {error}",
            "install the same version for the workers",
        ) from error
    if there != __version__:
        raise UnusableCluster(
            worker.shown,
            f"has Willow Cart {there}, this is {__version__}",
            "install the same version for both",
        )


def _require_shared(client: ClusterClient, worker: Worker, destination: Destination) -> None:
    """Refuse a worker that does not read what is written here, or the other way round."""
    token = secrets.token_hex(16)
    asked, answered = (f"{PARTIAL}/proof-{token}-{end}" for end in ("asked", "answered"))
    try:
        # The worker writes into a file that it does not create: one that answers after it was given
        # up leaves nothing.
        for path, content in ((answered, b""), (asked, token.encode())):
            with destination.create(path) as file:
                file.write(content)
                file.flush()
                files.sync(file.fileno())
        read = client.call(
            worker.address, cluster_worker.prove_shared, destination.root.absolute(), asked,
            answered,
        )  # fmt: skip
        with suppress(OSError), destination.open(answered) as answer:
            if read == token and answer.read(100).decode("ascii", "replace") == token:
                return
    finally:
        for path in (asked, answered):
            with suppress(OSError):
                destination.delete(path)
    raise UnusableCluster(
        worker.shown,
        f"does not share the folder {destination.root.absolute()} with this machine",
        "name a folder with --into that all workers see under the same path, and may write",
    )
