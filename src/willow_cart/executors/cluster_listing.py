"""List folders and buckets by the workers of a Dask cluster.

Any worker may list any folder, and one that is lost is replaced by another: Dask chooses. What no
worker lists, this machine does.
"""

from __future__ import annotations

import secrets
import threading
import time
from collections.abc import Callable, Collection, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from willow_cart.errors import UnusableCluster
from willow_cart.executors.cluster_client import ClusterClient, Gone
from willow_cart.executors.cluster_joining import require_version
from willow_cart.protocols import Access, DirectoryEntry
from willow_cart.redaction import without_secrets
from willow_cart.sources.discovery import PageRules
from willow_cart.sources.listing import Kind, Listing
from willow_cart.sources.reading import Reader
from willow_cart.sources.remote_listing import first_keys

# For so long a worker may take for one folder, with all attempts, before this machine lists it.
_PATIENCE_SECONDS = 300.0

_POLL_SECONDS = 0.5

# What a worker lists with is kept for so long without use.
_IDLE_SECONDS = 600.0


class ClusterLister:
    """Lists by the workers of a cluster; see `RemoteLister`.

    Args:
        client: talks to the scheduler.
        access: how places are talked to, here.
        hosts: of the sources, which sign-ins may be for.
        largest: bytes of a document that are read.

    Raises:
        UnusableCluster: there are no workers, one has another version, or they may not have the
            secrets that are needed.
    """

    def __init__(
        self,
        client: ClusterClient,
        access: Access,
        hosts: Collection[str],
        largest: int,
    ) -> None:
        self._client = client
        self._access = access
        self._largest = largest
        self._token = secrets.token_hex(8)
        self._workers: list[str] = []
        for worker in client.wait_for_workers():
            with suppress(Gone):  # it has just ended
                require_version(client, worker)
                self._workers.append(worker.address)
        self._is_private = all(map(client.is_private, self._workers))
        make_access = access.maker() if self._is_private else access.open_maker(hosts)
        if make_access is None:
            raise UnusableCluster(
                client.shown,
                "its workers would get the sign-ins over a connection that is not encrypted",
                "use tls:// (see the guide), or give them by env: names that workers have too",
            )
        self._setup = _Setup(self._token, make_access)

    def read(
        self, address: str, kind: Kind | None, source: str, rules: PageRules
    ) -> Listing | None:
        """Read the listing at an address; see `RemoteLister.read`."""
        asked = _Asked(address, kind, source, rules, self._largest)
        try:
            listing: Listing | None = self._run(_read, address, asked)
        except Gone:
            return asked.read(self._access)
        return listing

    def some_keys(self, bucket: str, prefix: str, after: str) -> Sequence[DirectoryEntry]:
        """Return the first objects behind a key; see `RemoteLister.some_keys`."""
        try:
            entries: Sequence[DirectoryEntry] = self._run(_some_keys, bucket, bucket, prefix, after)
        except Gone:
            return first_keys(self._access, bucket, prefix, after)
        return entries

    def _run(self, function: Callable[..., Any], address: str, *args: object) -> Any:
        """Have a worker run a function, in its turn at the host.

        Raises:
            Gone: no worker does.
        """
        if not (self._is_private or without_secrets(address) == address):
            raise Gone("a worker", "may not see the secret in the address")
        time.sleep(self._access.reserve(address))
        task = self._client.submit_to_any(self._workers, function, self._setup, *args)
        deadline = time.monotonic() + _PATIENCE_SECONDS
        while not task.done.wait(_POLL_SECONDS):
            if time.monotonic() > deadline or not self._is_any_left():
                task.cancel()
                raise Gone("a worker", "is lost")
        return task.result()

    def _is_any_left(self) -> bool:
        return not self._client.workers().keys().isdisjoint(self._workers)

    def close(self) -> None:
        """Have the workers forget what they list with."""
        with suppress(Gone):
            for worker in self._client.workers().keys() & self._workers:
                with suppress(Gone):
                    self._client.call(worker, _forget, self._token)


@dataclass(frozen=True, slots=True)
class _Asked:
    """A listing to be read, and how."""

    address: str
    kind: Kind | None
    source: str
    rules: PageRules
    largest: int

    def read(self, access: Access) -> Listing | None:
        return Reader(access, self.rules, self.largest).read(self.address, self.kind, self.source)


@dataclass(frozen=True, slots=True)
class _Setup:
    """What a worker lists with.

    Attributes:
        token: of the command; a worker makes its access once for each.
        make_access: makes what talks to places.
    """

    token: str
    make_access: Callable[[], Access]


_lock = threading.Lock()

_accesses: dict[str, tuple[Access, float]] = {}
"""How the workers in this process talk to places, by tokens, and when they did last."""


def _access_of(setup: _Setup) -> Access:
    now = time.monotonic()
    for token, (_, used) in list(_accesses.items()):
        if now - used > _IDLE_SECONDS:  # its command was killed
            _forget(token)
    with _lock:
        found = _accesses.get(setup.token)
        access = setup.make_access() if found is None else found[0]
        _accesses[setup.token] = access, now
    return access


def _read(setup: _Setup, asked: _Asked) -> Listing | None:
    return asked.read(_access_of(setup))


def _some_keys(setup: _Setup, bucket: str, prefix: str, after: str) -> Sequence[DirectoryEntry]:
    return first_keys(_access_of(setup), bucket, prefix, after)


def _forget(token: str) -> None:
    found = _accesses.pop(token, None)
    if found is not None:
        found[0].close()
