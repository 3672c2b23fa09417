"""The plan of a haul: one path for every offer, decided before anything is fetched.

A plan is a rule and its exceptions. Nearly every offer lies where its layout wishes it, so only the
others are held, and a million offers take little more memory than a thousand.
"""

from __future__ import annotations

from array import array
from collections import defaultdict
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Protocol

from willow_cart.addresses import fingerprint, host_of, query_of, without_secrets
from willow_cart.errors import FieldsMissing
from willow_cart.filing.names import fold, safe_name, safe_path
from willow_cart.filing.templates import FieldMissing
from willow_cart.model import Offer
from willow_cart.shelf import Shelf
from willow_cart.units import count_of


class Rule(Protocol):
    """What says where offers go: a layout or a template."""

    def wish_for(self, offer: Offer) -> str:
        """The path below the destination that it wishes for an offer, safe or not.

        Raises:
            FieldMissing: the offer has nothing to say for a field of the rule.
        """


class Held(Protocol):
    """What earlier hauls have filed, by addresses without secrets."""

    def path_of(self, address: str) -> str | None:
        """The path of what an address brought; None if nothing of it is here."""

    def paths(self) -> Iterable[str]:
        """The paths of everything."""


@dataclass(frozen=True, slots=True)
class Filed:
    """An offer and the path below the destination that is kept for it."""

    offer: Offer
    path: str


@dataclass(frozen=True, slots=True)
class Clash:
    """Several offers that wanted one path, and what each was given instead."""

    wanted: str
    given: tuple[Filed, ...]


@dataclass(slots=True)
class Count:
    """How many offers something is true of, with the first of them as an example."""

    files: int = 0
    example: Filed | None = None

    def add(self, filed: Filed) -> None:
        """Count one more."""
        self.files += 1
        self.example = self.example or filed


def _numbers_by_host() -> defaultdict[str, array[int]]:
    return defaultdict(lambda: array("L"))


@dataclass(slots=True)
class Plan:
    """What goes where; no two paths are the same on any file system.

    Attributes:
        offers: what is to be hauled, numbered from 1.
        layout: the rule for where files go.
        elsewhere: the paths of those that do not lie where the layout wishes them, by address.
        clashes: the offers that could not have the path they wanted.
        staying: offers that an earlier haul filed elsewhere, and that stay there.
        changed: offers whose names or folders no file system would take as they are.
        new: the numbers of the offers of each host that no earlier haul has brought.
        known: likewise of those that one has; they come last, so that a haul that is interrupted
            again and again gets on.
        longest: the length of the longest path that the layout wishes for.
    """

    offers: Shelf
    layout: Rule
    elsewhere: dict[str, str] = field(default_factory=dict)
    clashes: list[Clash] = field(default_factory=list)
    staying: Count = field(default_factory=Count)
    changed: Count = field(default_factory=Count)
    new: defaultdict[str, array[int]] = field(default_factory=_numbers_by_host)
    known: defaultdict[str, array[int]] = field(default_factory=_numbers_by_host)
    longest: int = 0

    def __len__(self) -> int:
        return len(self.offers)

    def __getitem__(self, number: int) -> Filed:
        """The offer with a number, counted from 1, and its path."""
        return self._file(self.offers[number])

    def __iter__(self) -> Iterator[Filed]:
        return (self._file(offer) for offer in self.offers)

    def _file(self, offer: Offer) -> Filed:
        path = self.elsewhere.get(offer.address)
        return Filed(offer, safe_path(self.layout.wish_for(offer)) if path is None else path)


def make_plan(offers: Shelf, layout: Rule, held: Held | None = None) -> Plan:
    """Give every offer a path of its own.

    The result depends on the set of offers and on what is held, never on their order. One file
    keeps one name: what an earlier haul has filed stays where it is.

    Args:
        offers: what is to be hauled.
        layout: the rule for where files go.
        held: what the ledger knows; None if there is nothing yet.

    Raises:
        FieldsMissing: the rule has a field that some of them have nothing to say for.
    """
    plan = Plan(offers, layout)
    # Paths are compared by hashes: those that agree are looked at in full, the others are apart.
    wished = array("q")
    taken: set[int] = set()
    if held is not None:
        for path in held.paths():
            folded = fold(path)
            taken.add(hash(folded))
            taken.update(map(hash, _folders_of(folded)))
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
        folded = fold(wish)
        if (folder := folded.rpartition("/")[0]) != last:
            taken.update(map(hash, _folders_of(folded)))
            last = folder
        at_home = held.path_of(without_secrets(offer.address)) if held is not None else None
        if at_home != wish:
            wished.append(hash(folded))  # what lies where it is wished is taken by itself
        filed = _count_in(plan, number, offer, wish, at_home)
        # Folders without a name are lost on the way, so they are looked for in the address.
        if wish != unsafe or "//" in offer.address.partition("://")[2]:
            plan.changed.add(filed)
    if gaps:
        raise _fields_missing(gaps, lacking, len(offers))
    in_order = sorted(wished)
    shared = {one for one, other in pairwise(in_order) if one == other}
    shared.update(key for key in wished if key in taken)
    if shared:
        _settle_clashes(plan, held, shared, taken | (set(wished) - shared))
    return plan


def require_fields(filed: Iterable[Filed], wish_for: Callable[[Filed], str]) -> None:
    """Refuse a template that has nothing to say for some files.

    Args:
        filed: the files.
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
        f"says nothing for {len(gaps):,} of {count_of(files, 'file')}, such as {lacking}",
        f"write {{{gaps[0]}|or WORD}} for them, or choose others",
        address=lacking,
        files=len(gaps),
    )


def _count_in(plan: Plan, number: int, offer: Offer, wish: str, at_home: str | None) -> Filed:
    """Count an offer in, and leave it where an earlier haul has filed it."""
    (plan.new if at_home is None else plan.known)[host_of(offer.address)].append(number)
    plan.longest = max(plan.longest, len(wish))
    if at_home is None or at_home == wish:
        return Filed(offer, wish)
    plan.elsewhere[offer.address] = at_home
    filed = Filed(offer, at_home)
    # A clash of an earlier haul is no change of mind about the layout.
    if at_home.rpartition("/")[0] != wish.rpartition("/")[0]:
        plan.staying.add(filed)
    return filed


def _settle_clashes(plan: Plan, held: Held | None, shared: Container[int], taken: set[int]) -> None:
    """Give every offer a path of its own whose wish others share, or that is taken already.

    Args:
        plan: where the paths are noted.
        held: what the ledger knows; it keeps its paths, and counts in telling apart.
        shared: hashes of the folded wishes in question.
        taken: hashes of the folded paths that are not to be had: those of files here, of folders
            here or to come (one path cannot be both: `/seasons` beside `/seasons/2029.zip`), and
            all that one offer alone wishes for.
    """
    wishes: defaultdict[str, list[Filed]] = defaultdict(list)
    settled: set[str] = set()
    for offer in plan.offers:
        wish = safe_path(plan.layout.wish_for(offer))
        if hash(fold(wish)) in shared:
            wishes[fold(wish)].append(Filed(offer, wish))
            if held is not None and held.path_of(without_secrets(offer.address)) is not None:
                settled.add(offer.address)
    for key in sorted(wishes):
        wanting = wishes[key]
        if all(filed.offer.address in settled for filed in wanting):
            continue
        given = _tell_apart(wanting, settled, taken)
        plan.elsewhere.update((filed.offer.address, filed.path) for filed in given)
        taken.update(hash(fold(filed.path)) for filed in given)
        plan.clashes.append(Clash(min(filed.path for filed in wanting), tuple(given)))


def _tell_apart(wishes: list[Filed], settled: Container[str], taken: set[int]) -> list[Filed]:
    """Give offers that want one path a path each, by the first mark that tells them all apart.

    The marks are tried in the order in which people would: the query, the folder, the host, and
    what always works, a fingerprint of the address.

    Args:
        wishes: the offers with the path they all want.
        settled: addresses that have a path already; they count in telling apart, and keep it.
        taken: hashes of the folded paths that are not to be had.
    """
    wishes = sorted(wishes, key=lambda filed: filed.offer.address)
    for mark in (_query_mark, _folder_mark, _host_mark, _fingerprint_mark):
        told_apart = [Filed(wish.offer, marked(wish.path, mark(wish.offer))) for wish in wishes]
        given = [filed for filed in told_apart if filed.offer.address not in settled]
        apart = len({fold(filed.path) for filed in told_apart}) == len(told_apart)
        if apart and not {hash(fold(filed.path)) for filed in given} & taken:
            break
    return given


def _folders_of(path: str) -> Iterator[str]:
    while path := path.rpartition("/")[0]:
        yield path


def _query_mark(offer: Offer) -> str:
    return query_of(without_secrets(offer.address))


def _folder_mark(offer: Offer) -> str:
    return "-".join(offer.path.split("/")[:-1])


def _host_mark(offer: Offer) -> str:
    return host_of(offer.address)


def _fingerprint_mark(offer: Offer) -> str:
    return fingerprint(offer.address)


def marked(path: str, mark: str) -> str:
    """Put a mark into a path's name, before its extension; a long mark loses its middle."""
    if not mark:
        return path
    if len(mark) > 60:
        mark = f"{mark[:30]}~{fingerprint(mark)}"
    folder, slash, name = path.rpartition("/")
    stem, dot, ending = name.partition(".") if not name.startswith(".") else (name, "", "")
    return f"{folder}{slash}{safe_name(f'{stem} ({mark}){dot}{ending}')}"
