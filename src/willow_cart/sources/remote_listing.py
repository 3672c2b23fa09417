"""List folders and buckets by other machines, in the order in which this one would."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import islice
from typing import Protocol
from urllib.parse import unquote

from willow_cart.addresses import STORES, WEB, scheme_of
from willow_cart.protocols import Access, DirectoryEntry, ObjectStore
from willow_cart.sources.discovery import PageRules
from willow_cart.sources.listing import Kind, Listing

MAX_KEYS = 5_000
"""How many objects are listed at a time: what five requests to a store bring."""

# Entries that are held while folders before them are listed.
_MAX_HELD = 10_000


class RemoteLister(Protocol):
    """Lists folders elsewhere; thread-safe."""

    def read(
        self, address: str, kind: Kind | None, source: str, rules: PageRules
    ) -> Listing | None:
        """Read the listing at an address by rules for pages; see `Reader.read`."""

    def some_keys(self, bucket: str, prefix: str, after: str) -> Sequence[DirectoryEntry]:
        """Return the first objects with a prefix whose keys sort behind one.

        They are `MAX_KEYS`, or all there are.
        """


def is_listed_remotely(address: str) -> bool:
    """Whether a place can be listed by several machines: each has connections of its own.

    Servers of files, such as FTP, allow few of those.
    """
    return scheme_of(address) in WEB or scheme_of(address) in STORES


def first_keys(access: Access, bucket: str, prefix: str, after: str) -> Sequence[DirectoryEntry]:
    """Return the first objects behind a key; see `RemoteLister.some_keys`.

    Raises:
        TransferFailed: the store does not answer.
    """
    store = access.store(bucket)
    assert store is not None, "only stores have keys"
    return [*islice(store.list_keys(bucket, prefix, deep=True, after=after), MAX_KEYS)]


class _PrefixLister:
    """Lists the objects below one prefix, a stretch ahead."""

    def __init__(
        self, lister: RemoteLister, pool: ThreadPoolExecutor, bucket: str, prefix: str
    ) -> None:
        self._lister = lister
        self._pool = pool
        self._bucket = bucket
        self._prefix = prefix
        self._stretch = self._ask("")

    def _ask(self, after: str) -> Future[Sequence[DirectoryEntry]]:
        return self._pool.submit(self._lister.some_keys, self._bucket, self._prefix, after)

    def __iter__(self) -> Iterator[DirectoryEntry]:
        while True:
            stretch = self._stretch.result()
            is_last = len(stretch) < MAX_KEYS
            if not is_last:
                self._stretch = self._ask(_key(stretch[-1], self._bucket))
            yield from stretch
            if is_last:
                return


def _key(entry: DirectoryEntry, bucket: str) -> str:
    return unquote(entry.address[len(bucket) :])


def list_by_prefixes(
    store: ObjectStore, lister: RemoteLister, bucket: str, prefix: str, lanes: int
) -> Iterator[DirectoryEntry]:
    """Yield every object with a prefix, in the order of the keys; folders are listed elsewhere.

    Args:
        store: lists the first level.
        lister: lists what is below.
        bucket: the address of the bucket, with a slash at its end.
        prefix: the beginning of the keys.
        lanes: how many folders are listed at a time.

    Raises:
        TransferFailed: the store does not answer.
    """
    first_level = store.list_keys(bucket, prefix, deep=False)
    pool = ThreadPoolExecutor(lanes)
    ahead: deque[DirectoryEntry | _PrefixLister] = deque()
    folders = 0
    try:
        while True:
            while folders < lanes and len(ahead) < _MAX_HELD:
                entry = next(first_level, None)
                if entry is None:
                    break
                if entry.is_folder:
                    folders += 1
                    ahead.append(_PrefixLister(lister, pool, bucket, _key(entry, bucket)))
                else:
                    ahead.append(entry)
            if not ahead:
                return
            found = ahead.popleft()
            if isinstance(found, DirectoryEntry):
                yield found
            else:
                yield from found
                folders -= 1
    finally:
        pool.shutdown(cancel_futures=True)
