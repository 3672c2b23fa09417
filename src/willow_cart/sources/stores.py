"""Buckets: list objects from a prefix on.

A key is not a path, but users read it as one. What they write may be a bucket, a folder with or
without its slash, an exact key, or just the beginning of some; what is listed is what is hauled.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import count, islice
from urllib.parse import unquote

from willow_cart.addresses import WEB, address_of_key, host_of, scheme_of
from willow_cart.choosing.patterns import literal_beginning, matcher
from willow_cart.errors import NothingChosen, UnreadableSource
from willow_cart.model import Offer
from willow_cart.protocols import DirectoryEntry, ObjectStore
from willow_cart.redaction import without_secrets
from willow_cart.sources.directories import nothing_matches
from willow_cart.sources.listing import MAX_DEPTH, Discovery, Looking, NotEntered, Why

_MAX_SUGGESTIONS = 5


def offers_in_store(
    store: ObjectStore,
    address: str,
    looking: Looking,
    found: Discovery,
    source: str,
) -> Iterator[Offer]:
    """Yield every object that an address in a bucket refers to.

    Args:
        store: lists the bucket.
        address: as typed by the user, in normal form.
        looking: how far to go.
        found: receives the folders that are not entered.
        source: the source, as typed by the user.

    Raises:
        TransferFailed: the store does not answer, or refuses.
        UnreadableSource: nothing is there; the error suggests similar names.
        NothingChosen: no key begins like it, or its wildcards match nothing; as above.
    """
    if "?" in address:  # a version of one object
        yield Offer(address, source)
        return
    walk = _StoreWalk(store, address, looking, found, source)
    typed = walk.key_of(address)
    if re.search(r"[*?]", typed):
        yield from walk.matching(typed)
        return
    if typed and not typed.endswith("/"):
        first = next(store.list_keys(walk.bucket, typed, deep=True), None)
        if first is not None and first.address == walk.address_of(typed):
            yield walk.offer(first, typed[: typed.rfind("/") + 1])
            return
        if next(store.list_keys(walk.bucket, f"{typed}/", deep=True), None) is not None:
            typed += "/"
        elif first is None:
            raise UnreadableSource(without_secrets(address), "not found", walk.what_is_near(typed))
    some = False
    for offer in walk.below(typed):
        some = True
        yield offer
    if not some and not found.not_entered:
        near = walk.what_is_near(typed)
        raise NothingChosen(source, "no key with this prefix", near, offered=0, rule=source)


def bucket_of(address: str) -> str:
    """Return the address of the bucket of an address, with a slash at the end.

    On the web it is the first folder of its account; where the host is only a number, which names
    no account, the account comes before it.
    """
    folders = 0
    if scheme_of(address) in WEB:
        name = host_of(address).rpartition(":")[0] or host_of(address)
        folders = 2 if name == "localhost" or name.replace(".", "").isdigit() else 1
    return "/".join(address.partition("?")[0].split("/")[: 3 + folders]) + "/"


class _StoreWalk:
    """Lists the keys below one address."""

    def __init__(
        self,
        store: ObjectStore,
        address: str,
        looking: Looking,
        found: Discovery,
        source: str,
    ) -> None:
        self._store = store
        self._looking = looking
        self._found = found
        self._source = source
        self.bucket = bucket_of(address)
        self._numbers = count(1)
        self._top: str | None = None
        self._cut = 0

    def address_of(self, key: str) -> str:
        """Return the address of an object."""
        return address_of_key(self.bucket, key)

    def key_of(self, address: str) -> str:
        """Return the key of an object, or a prefix of keys."""
        return unquote(address.partition("?")[0][len(self.bucket) :])

    def offer(self, entry: DirectoryEntry, top: str) -> Offer:
        """Return an object as an offer, with folders relative to a prefix that ends in a slash."""
        if top != self._top:
            self._top, self._cut = top, len(self.bucket)
            if top:
                self._cut = len(self.address_of(top[:-1])) + 1
        between = entry.address[self._cut :].rpartition("/")[0]
        if "%" in between:
            between = unquote(between)
        return Offer(
            entry.address,
            self._source,
            number=next(self._numbers),
            folder=between,
            size=entry.size,
            modified=entry.modified,
            checksums=entry.checksums,
            entity_tag=entry.entity_tag,
        )

    def below(self, prefix: str) -> Iterator[Offer]:
        """Yield the objects with a prefix, down to the requested depth."""
        looking = self._looking
        top = prefix[: prefix.rfind("/") + 1]
        after = f"{top}{looking.after}" if looking.after else ""
        if looking.depth is None:
            beginning = prefix + looking.beginning if prefix == top else prefix
            for entry in self._store.list_keys(self.bucket, beginning, deep=True, after=after):
                yield self.offer(entry, top)
            return
        pushed = looking.beginning if prefix == top and looking.depth == 1 else ""
        waiting = [(prefix + pushed, 1)]
        while waiting:
            begins, level = waiting.pop()
            folders = []
            first_after = after if level == 1 else ""
            for entry in self._store.list_keys(self.bucket, begins, deep=False, after=first_after):
                if not entry.is_folder:
                    yield self.offer(entry, top)
                elif level >= looking.depth or level >= MAX_DEPTH:
                    self._leave_out(entry.address, top, looking.depth)
                else:
                    folders.append((self.key_of(entry.address), level + 1))
            waiting += reversed(folders)

    def matching(self, pattern: str) -> Iterator[Offer]:
        """Yield the objects whose keys match a pattern."""
        begins = literal_beginning(pattern)
        top = begins[: begins.rfind("/") + 1]
        matches = matcher(pattern, re.DOTALL)
        deep = "/" in pattern[len(begins) :]
        some = False
        for entry in self._store.list_keys(self.bucket, begins, deep=deep):
            if not entry.is_folder and matches(self.key_of(entry.address)):
                some = True
                yield self.offer(entry, top)
        if not some:
            entries = self._store.list_keys(self.bucket, top, deep=False)
            keys = (self.key_of(entry.address)[len(top) :] for entry in entries)
            raise nothing_matches(self._source, keys, self.bucket + top)

    def what_is_near(self, typed: str) -> str:
        """Return the first existing keys with the longest matching prefix."""
        begins = typed
        while begins:
            begins = begins[: begins.rstrip("/").rfind("/") + 1]
            entries = list(islice(self._store.list_keys(self.bucket, begins, deep=False), 5))
            if entries:
                names = ", ".join(
                    self.key_of(entry.address) for entry in entries[:_MAX_SUGGESTIONS]
                )
                return f"nearby: {names}"
        return "the bucket is empty"

    def _leave_out(self, address: str, top: str, depth: int) -> None:
        shown = without_secrets(address)
        why = Why.DEPTH if depth < MAX_DEPTH else Why.DEEP
        path = self.key_of(shown)[len(top) :]
        self._found.not_entered.append(NotEntered(shown, path, why, self._source))
