"""The plan of a haul: a unique path for each offer, decided before anything is fetched.

A plan is a rule and its exceptions. Nearly every offer is where its layout wishes it, so only the
others are held, and a million offers take little more memory than a thousand.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left
from collections import defaultdict
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from itertools import chain, count, pairwise
from typing import Protocol

from willow_cart.addresses import host_of, query_of
from willow_cart.destination import fold, marked_name, safe_path
from willow_cart.errors import FieldsMissing
from willow_cart.filing.templates import FieldMissing, Template
from willow_cart.identity import AddressId, without_signature
from willow_cart.model import Offer
from willow_cart.offer_store import OfferStore
from willow_cart.redaction import fingerprint, without_secrets
from willow_cart.structs import Record, Value, field
from willow_cart.units import count_of

# A longer mark says no more to a reader; its fingerprint distinguishes it from others.
_MAX_MARK_CHARACTERS = 60


class FilingRule(Protocol):
    """A rule for paths: a layout or a template."""

    def wish_for(self, offer: Offer) -> str:
        """Return the desired path of an offer below the destination, safe or not.

        Raises:
            FieldMissing: the offer has no value for a field of the rule.
        """


class KnownPaths(Protocol):
    """The paths of earlier hauls."""

    def path_of(self, identifier: AddressId) -> str | None:
        """Return the path of the file from the address with an identifier, or None."""

    def paths(self) -> Iterable[str]:
        """Yield all paths."""


class Filed(Value):
    """An offer and its path below the destination."""

    offer: Offer
    path: str


class Clash(Value):
    """Offers that wanted the same path, and the paths they got."""

    wanted: str
    given: tuple[Filed, ...]


class Count(Record):
    """A number of offers with a common property, and the first of them as an example."""

    files: int = 0
    example: Filed | None = None

    def add(self, filed: Filed) -> None:
        """Count one offer."""
        self.files += 1
        self.example = self.example or filed


def _numbers_by_host() -> defaultdict[str, array[int]]:
    return defaultdict(lambda: array("L"))


class Plan(Record):
    """The path of each offer; no two paths are equal on any file system.

    Attributes:
        offers: the files to haul, numbered from 1.
        layout: the rule for where files go.
        elsewhere: the paths of those that are not where the layout wishes them, by
            `Offer.unique`.
        clashes: the offers that could not have the path they wanted.
        staying: offers that an earlier haul filed elsewhere, and that stay there.
        changed: offers whose names or folders no file system would take as they are.
        new: the numbers of the offers of each host that no earlier haul has fetched.
        known: as above of those that one has; they come last, so that a haul that is interrupted
            repeatedly gets on.
        longest: the length of the longest path that the layout wishes for.
    """

    offers: OfferStore
    layout: FilingRule
    elsewhere: dict[str, str] = field(default_factory=dict)
    clashes: list[Clash] = field(default_factory=list)
    staying: Count = field(default_factory=Count)
    changed: Count = field(default_factory=Count)
    new: defaultdict[str, array[int]] = field(default_factory=_numbers_by_host)
    known: defaultdict[str, array[int]] = field(default_factory=_numbers_by_host)
    longest: int = 0
    _taken: _Taken | None = None

    def __len__(self) -> int:
        return len(self.offers)

    def __getitem__(self, number: int) -> Filed:
        """Return an offer with its path by its number, counted from 1."""
        return self._file(self.offers[number])

    def __iter__(self) -> Iterator[Filed]:
        return (self._file(offer) for offer in self.offers)

    def has_path(self, path: str) -> bool:
        """Whether a path is that of an offer or its folder, or is taken for it by a file system."""
        if self._taken is None:
            self._taken = _Taken(fold(filed.path) for filed in self)
        return hash(fold(path)) in self._taken

    def move(self, filed: Filed, path: str) -> None:
        """Note that an offer is at another path than planned: its server named it."""
        self.elsewhere[filed.offer.unique] = path

    def _file(self, offer: Offer) -> Filed:
        path = self.elsewhere.get(offer.unique)
        return Filed(offer, safe_path(self.layout.wish_for(offer)) if path is None else path)


def make_plan(
    offers: OfferStore,
    layout: FilingRule,
    held: KnownPaths | None = None,
    *,
    case_sensitive: bool = False,
) -> Plan:
    """Give each offer a path of its own.

    The result depends on the set of offers and on what is held, never on their order. One file
    keeps one name: what an earlier haul has filed stays where it is.

    Args:
        layout: the rule for where files go.
        held: what the ledger knows; None if there is nothing yet.
        case_sensitive: whether the file system keeps `A.csv` and `a.csv` apart.

    Raises:
        FieldsMissing: the rule has a field that some of them have no value for.
        BadOption: it gives all of several files the same name.
    """
    if isinstance(layout, Template):
        layout.require_apart(len(offers))
    plan = Plan(offers, layout)
    key_of = _same if case_sensitive else fold
    homes = _Homes(held, key_of)
    # Paths are compared by hashes: those that agree are looked at in full, the others are apart.
    wished = array("q")
    taken = homes.taken
    last = ""
    gaps: list[str] = []  # a million are no more than a word each
    lacking = ""
    for number, offer in enumerate(offers, 1):
        try:
            unsafe = layout.wish_for(offer)
        except FieldMissing as gap:
            gaps.append(gap.args[0])
            lacking = lacking or without_secrets(offer.address)
            continue
        wish = safe_path(unsafe)
        key = key_of(wish)
        if (folder := key.rpartition("/")[0]) != last:
            taken.add_folders(key)
            last = folder
        at_home = homes.settle(offer)
        if at_home != wish:
            wished.append(hash(key))  # what is where it is wished is taken by itself
        filed = _count_in(plan, number, offer, wish, at_home)
        # Folders without a name are lost in that step, so they are looked for in the address.
        if wish != unsafe or "//" in offer.address.partition("://")[2]:
            plan.changed.add(filed)
    if gaps:
        raise _fields_missing(gaps, lacking, len(offers))
    in_order = sorted(wished)
    shared = {one for one, other in pairwise(in_order) if one == other}
    shared.update(key for key in wished if key in taken)
    if shared:
        taken.add(set(wished) - shared)
        _settle_clashes(plan, homes, shared, taken, key_of)
    return plan


class _Taken:
    """Hashes of the keys of paths that are in use; a million take a few megabytes.

    Args:
        keys: of the paths of existing files.

    Attributes:
        of_files: the hashes of these, in order.
    """

    def __init__(self, keys: Iterable[str]) -> None:
        self._others: set[int] = set()
        found = array("q")
        last = ""
        for key in keys:
            found.append(hash(key))
            folder = key.rpartition("/")[0]
            if folder != last:
                self.add_folders(key)
                last = folder
        self.of_files = array("q", sorted(found))

    def __contains__(self, key: int) -> bool:
        place = bisect_left(self.of_files, key)
        there = place < len(self.of_files) and self.of_files[place] == key
        return there or key in self._others

    def add_folders(self, key: str) -> None:
        """Add the folders of a path."""
        self._others.update(map(hash, _folders_of(key)))

    def add(self, keys: Iterable[int]) -> None:
        """Add paths by the hashes of their keys."""
        self._others.update(keys)


class _Homes:
    """The paths of earlier hauls that offers keep.

    Args:
        held: what the ledger knows; None if there is nothing yet.
        key_of: gives the form in which two paths are the same on the file system.

    Attributes:
        taken: the paths of all that is held, and their folders.
    """

    def __init__(self, held: KnownPaths | None, key_of: Callable[[str], str]) -> None:
        self._held = held
        self._key_of = key_of
        self._displaced: set[str] = set()
        keys = map(key_of, held.paths()) if held is not None else iter(())
        self.taken = _Taken(keys)
        self._settled = bytearray(len(self.taken.of_files))

    def settle(self, offer: Offer) -> str | None:
        """Keep the path of an offer; return None if it has none, or another offer has the same.

        That is so where a folder was moved to a file system that does not distinguish case.
        """
        path = self.of(offer)
        if path is None:
            return None
        place = bisect_left(self.taken.of_files, hash(self._key_of(path)))
        if self._settled[place]:
            self._displaced.add(offer.unique)
            return None
        self._settled[place] = True
        return path

    def of(self, offer: Offer) -> str | None:
        """Return the path that an offer keeps, or None."""
        if self._held is None or offer.unique in self._displaced:
            return None
        return self._held.path_of(offer.id)


def require_fields(filed: Iterable[Filed], wish_for: Callable[[Filed], str]) -> None:
    """Refuse a template with a field that has no value for some files.

    Args:
        wish_for: what the template makes of each; raises `FieldMissing`.

    Raises:
        FieldsMissing: it has a field that does not.
    """
    gaps: list[str] = []
    lacking = ""
    files = 0
    for files, each in enumerate(filed, 1):  # noqa: B007  # the last number is how many
        try:
            wish_for(each)
        except FieldMissing as gap:
            gaps.append(gap.args[0])
            lacking = lacking or without_secrets(each.offer.address)
    if gaps:
        raise _fields_missing(gaps, lacking, files)


def _fields_missing(gaps: Sequence[str], lacking: str, files: int) -> FieldsMissing:
    return FieldsMissing(
        f"{{{gaps[0]}}}",
        f"has no value for {len(gaps):,} of {count_of(files, 'file')}, such as {lacking}",
        f"write {{{gaps[0]}|or WORD}}, or exclude these files",
        address=lacking,
        files=len(gaps),
    )


def _count_in(plan: Plan, number: int, offer: Offer, wish: str, at_home: str | None) -> Filed:
    """Count an offer, and keep its path from an earlier haul."""
    (plan.new if at_home is None else plan.known)[host_of(offer.address)].append(number)
    plan.longest = max(plan.longest, len(wish))
    if at_home is None or at_home == wish:
        return Filed(offer, wish)
    plan.elsewhere[offer.unique] = at_home
    filed = Filed(offer, at_home)
    # A clash of an earlier haul does not change the layout.
    if at_home.rpartition("/")[0] != wish.rpartition("/")[0]:
        plan.staying.add(filed)
    return filed


def _settle_clashes(
    plan: Plan,
    homes: _Homes,
    shared: Container[int],
    taken: _Taken,
    key_of: Callable[[str], str],
) -> None:
    """Find a path for each offer whose desired path is shared or in use.

    Args:
        plan: where the paths are noted.
        homes: the paths that offers keep; these count in distinguishing.
        shared: hashes of the keys of the wishes in question.
        taken: hashes of the keys of paths that cannot be given: those of files here, of folders
            here or to come (one path cannot be both: `/seasons` next to `/seasons/2029.zip`), and
            all that one offer alone wishes for.
        key_of: gives the form in which two paths are the same on the file system.
    """
    wishes: defaultdict[str, list[Filed]] = defaultdict(list)
    settled: set[str] = set()
    for offer in plan.offers:
        wish = safe_path(plan.layout.wish_for(offer))
        if hash(key_of(wish)) in shared:
            wishes[key_of(wish)].append(Filed(offer, wish))
            if homes.of(offer) is not None:
                settled.add(offer.unique)
    for key in sorted(wishes):
        wanting = wishes[key]
        if all(filed.offer.unique in settled for filed in wanting):
            continue
        given = _tell_apart(wanting, settled, taken, key_of)
        plan.elsewhere.update((filed.offer.unique, filed.path) for filed in given)
        taken.add(hash(key_of(filed.path)) for filed in given)
        plan.clashes.append(Clash(min(filed.path for filed in wanting), tuple(given)))


def _tell_apart(
    wishes: list[Filed], settled: Container[str], taken: _Taken, key_of: Callable[[str], str]
) -> list[Filed]:
    """Tell offers with one desired path apart by the first mark that differs for all of them.

    The marks are tried in the order in which users would: the query, the folder, the path below
    the source, the host, and what always works, a fingerprint of the address with a number. Of
    names that differ only in case, the first in order keeps its own.

    Args:
        wishes: the offers with the path they all want.
        settled: offers that have a path already; they count in distinguishing, and keep it.
        taken: hashes of the keys of paths that cannot be given.
        key_of: gives the form in which two paths are the same on the file system.

    Returns:
        The offers that are not settled, each with a path that no other has.
    """
    wishes = sorted(wishes, key=lambda filed: (filed.path, filed.offer.unique))
    first: list[Filed] = []
    only_case = len({filed.path for filed in wishes}) == len(wishes) > 1
    leader = wishes[0]
    keeps = leader.offer.unique not in settled and hash(key_of(leader.path)) not in taken
    if only_case and keeps:
        first = [wishes.pop(0)]
    for mark in chain(_MARKS, map(_numbered_mark, count(2))):
        told_apart = [Filed(wish.offer, marked(wish.path, mark(wish.offer))) for wish in wishes]
        given = [filed for filed in told_apart if filed.offer.unique not in settled]
        keys = {key_of(filed.path) for filed in (*first, *told_apart)}
        apart = len(keys) == len(first) + len(told_apart)
        if apart and not any(hash(key_of(filed.path)) in taken for filed in given):
            return first + given
    raise AssertionError("numbers do not end")


def _same(path: str) -> str:
    return path


def _folders_of(path: str) -> Iterator[str]:
    while path := path.rpartition("/")[0]:
        yield path


def _shown(offer: Offer) -> str:
    return without_secrets(without_signature(offer.address))


def _query_mark(offer: Offer) -> str:
    return query_of(_shown(offer))


def _folder_mark(offer: Offer) -> str:
    return "-".join(offer.path.split("/")[:-1])


def _path_mark(offer: Offer) -> str:
    # The same at every port and host that offers the same tree.
    return fingerprint(f"{offer.path}?{query_of(_shown(offer))}")


def _host_mark(offer: Offer) -> str:
    return host_of(offer.address)


def _address_mark(offer: Offer) -> str:
    return fingerprint(offer.id)


def _numbered_mark(number: int) -> Callable[[Offer], str]:
    return lambda offer: f"{fingerprint(offer.id)}-{number}"


_MARKS = (_query_mark, _folder_mark, _path_mark, _host_mark, _address_mark)


def marked(path: str, mark: str) -> str:
    """Insert a mark into a path before its extension; a long mark is shortened in the middle."""
    if not mark:
        return path
    if len(mark.encode()) > _MAX_MARK_CHARACTERS:
        mark = f"{mark.encode()[:30].decode('utf-8', 'ignore')}~{fingerprint(mark)}"
    folder, slash, name = path.rpartition("/")
    return f"{folder}{slash}{marked_name(name, mark)}"
