"""Checksum lists in GNU format (`hash  name`) and BSD format (`SHA256 (name) = hash`)."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence

from willow_cart.addresses import host_of, looks_like_address, segments_of
from willow_cart.checks.digests import read_checksum
from willow_cart.errors import BadOption
from willow_cart.formats.bagit import decode_path
from willow_cart.model import Checksum, Issue, Offer, Origin
from willow_cart.structs import Value, replace

# GNU coreutils manual, "md5sum invocation": a space or `*` before the name distinguishes text
# from binary
# mode, which makes no difference here; a leading backslash states that the name is escaped.
_GNU = re.compile(r"(\\?)([0-9a-fA-F]{32,128})(?: [ *]|\t+| +)(\S.*)")
_BSD = re.compile(r"(\\?)([A-Za-z0-9-]+) ?\((.+)\) ?= ?([0-9a-fA-F]+)")
_BARE = re.compile(r"[0-9a-fA-F]{32,128}")
_MANIFEST = re.compile(r"(tag)?manifest-[a-z0-9]+\.txt")
_ESCAPED = {r"\n": "\n", r"\r": "\r", r"\\": "\\"}

# More parts than any path has: a list that is where the offer is is beyond doubt.
_EXACT_MATCH = 1_000_000


class ListedChecksum(Value):
    """One line of a checksum list.

    Attributes:
        parts: the name it speaks of, taken apart at its slashes.
        checksum: what it promises.
        place: the list that it is in: a path or an address.
    """

    parts: tuple[str, ...]
    checksum: Checksum
    place: str

    def agreement(self, offer: Offer, address: Sequence[str], path: Sequence[str]) -> int:
        """Return how many path components agree with an offer; 0 if this is another file."""
        if looks_like_address(self.place):
            folder = segments_of(self.place)[:-1]
            if host_of(self.place) == host_of(offer.address) and [*folder, *self.parts] == address:
                return _EXACT_MATCH
        return max(_common_tail(self.parts, address), _common_tail(self.parts, path))


def read_checksum_list(text: str, place: str) -> Iterator[ListedChecksum | Issue]:
    """Read a checksum list line by line.

    A file that holds a single bare hash, as `name.sha256` often does, promises it for `name`. In
    the manifest of a bag names are encoded as RFC 8493, 2.1.3 has it.

    Args:
        text: the list.
        place: where it came from; its name distinguishes BLAKE2b from SHA-512 where the length
            cannot.

    Yields:
        What each line promises, or the problem with it.
    """
    own_name = place.rpartition("/")[2].lower()
    wide = "blake2b" if re.search(r"b(lake)?2", own_name) else None
    is_bag_s = _MANIFEST.fullmatch(own_name) is not None
    # A name may hold what Python takes for the end of a line besides these.
    for number, raw in enumerate(re.split(r"\r?\n|\r", text.removeprefix("\ufeff")), 1):
        line = raw.strip()
        if not line or line.startswith(("#", ";", "-----")):
            continue
        try:
            name, checksum = _read_line(line, place, wide)
        except BadOption as error:
            yield Issue(f"{place}, line {number}", str(error))
            continue
        if is_bag_s:
            name = decode_path(name)
        parts = name.replace("\\", "/").split("/")
        named = tuple(part for part in parts if part not in ("", "."))
        yield ListedChecksum(named, replace(checksum, origin=Origin.LIST), place)


def is_checksum_line(line: str) -> bool:
    """Whether a line is an entry of a checksum list with a file name."""
    line = line.strip()
    return bool(_GNU.fullmatch(line) or _BSD.fullmatch(line))


def is_bare_checksum(line: str) -> bool:
    """Whether a line is just a hash, as in a file `name.sha256`."""
    return _BARE.fullmatch(line.strip()) is not None


def _read_line(line: str, place: str, wide: str | None) -> tuple[str, Checksum]:
    if bsd := _BSD.fullmatch(line):
        escaped, algorithm, name, digest = bsd.groups()
        return _unescape(name, escaped), read_checksum(digest, algorithm=algorithm)
    if gnu := _GNU.fullmatch(line):
        escaped, digest, name = gnu.groups()
        return _unescape(name, escaped), read_checksum(
            digest, algorithm=wide if len(digest) == 128 else None
        )
    if _BARE.fullmatch(line):
        name = place.rpartition("/")[2].rpartition(".")[0]
        return name, read_checksum(line, algorithm=wide if len(line) == 128 else None)
    raise BadOption(line[:60], "not a line of a checksum list", "expected a hash and a name")


def _unescape(name: str, escaped: str) -> str:
    return re.sub(r"\\[nr\\]", lambda match: _ESCAPED[match[0]], name) if escaped else name


class ChecksumBook:
    """The entries of checksum lists, looked up by the names of offers.

    A list names files by their path below itself, and offers are known by theirs below their
    source, so the two are compared from their ends. An entry speaks of an offer if they agree in
    all the parts that the shorter one has; of several entries the one that agrees furthest counts,
    and an entry of a list that was fetched counts before all if it is where the offer is.
    """

    def __init__(self, entries: Iterable[ListedChecksum]) -> None:
        self._by_name: defaultdict[str, list[ListedChecksum]] = defaultdict(list)
        for entry in entries:
            if entry.parts:
                self._by_name[entry.parts[-1]].append(entry)

    def promise(self, offers: Iterable[Offer]) -> tuple[list[Offer], list[Issue]]:
        """Add the expected checksums to every offer.

        An entry that could mean several offers is used for none of them: a check of the wrong
        file would be worse than none.

        Returns:
            The offers in their order, and what could not be decided.
        """
        offers = list(offers)
        agreements = [self._agreements(offer) for offer in offers]
        furthest: dict[ListedChecksum, int] = {}
        for found in agreements:
            for entry, agreed in found.items():
                furthest[entry] = max(agreed, furthest.get(entry, 0))
        meant = [
            [entry for entry, agreed in found.items() if agreed == furthest[entry]]
            for found in agreements
        ]
        means = Counter(entry for entries in meant for entry in entries)
        promised = []
        for offer, found, entries in zip(offers, agreements, meant, strict=True):
            clear = [entry for entry in entries if means[entry] == 1]
            best = max((found[entry] for entry in clear), default=0)
            checksums = tuple(entry.checksum for entry in clear if found[entry] == best)
            promised.append(replace(offer, checksums=offer.checksums + checksums))
        troubles = [
            Issue(
                entry.place,
                f"{'/'.join(entry.parts)} could mean {count} of the offers, so none is checked"
                " by it; give its folder in the list",
            )
            for entry, count in means.items()
            if count > 1
        ]
        return promised, troubles

    def _agreements(self, offer: Offer) -> dict[ListedChecksum, int]:
        """Return the entries that may refer to an offer, with the number of common components."""
        address = segments_of(offer.address)
        path = offer.path.split("/")
        names = dict.fromkeys((address[-1], path[-1]))
        candidates = (entry for name in names for entry in self._by_name.get(name, ()))
        return {
            entry: agreed
            for entry in candidates
            if (agreed := entry.agreement(offer, address, path))
        }


def _common_tail(one: Sequence[str], other: Sequence[str]) -> int:
    """Return how many trailing components two paths share; 0 if neither ends with the other."""
    shorter = min(len(one), len(other))
    return shorter if shorter and tuple(one[-shorter:]) == tuple(other[-shorter:]) else 0
