"""The plan of a haul: one path for every offer, decided before anything is fetched."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from willow_cart.addresses import fingerprint, host_of, query_of, without_secrets
from willow_cart.filing.layouts import Layout
from willow_cart.filing.names import fold, safe_name
from willow_cart.model import Offer


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


@dataclass(frozen=True, slots=True)
class Plan:
    """What goes where.

    Attributes:
        files: every offer with its path; no two paths are the same on any file system.
        clashes: the offers that could not have the path they wanted.
        twice: how many offers named an address that an earlier one had named.
        staying: offers that an earlier haul filed elsewhere, and that stay there.
    """

    files: list[Filed]
    clashes: list[Clash]
    twice: int
    staying: list[Filed]


def make_plan(offers: Iterable[Offer], layout: Layout, held: Mapping[str, str]) -> Plan:
    """Give every offer a path of its own.

    The result depends on the set of offers and on what is held, never on their order. One file
    keeps one name: what an earlier haul has filed stays where it is.

    Args:
        offers: what is to be hauled; of offers with the same address the first counts.
        layout: the rule for folders.
        held: the path of each address (without secrets) that the ledger knows.
    """
    unique: dict[str, Offer] = {}
    count = 0
    for offer in offers:
        count += 1
        unique.setdefault(offer.address, offer)

    taken = {fold(path) for path in held.values()}
    for path in held.values():
        taken.update(_folders_of(fold(path)))
    files: dict[str, Filed] = {}
    staying: list[Filed] = []
    wishes: defaultdict[str, list[Filed]] = defaultdict(list)
    for address, offer in unique.items():
        wish = layout.path_for(offer)
        at_home = held.get(without_secrets(address))
        if at_home is None:
            wishes[fold(wish)].append(Filed(offer, wish))
        else:
            files[address] = Filed(offer, at_home)
            # A clash of an earlier haul is no change of mind about the layout.
            if at_home.rpartition("/")[0] != wish.rpartition("/")[0]:
                staying.append(files[address])

    # Nor can one path be a file and a folder: `/seasons` beside `/seasons/2029.zip`.
    for key in wishes:
        taken.update(_folders_of(key))
    # Paths that only one offer wants are given first, so that the ways out of a clash avoid them.
    clashing = {key for key, wanting in wishes.items() if len(wanting) > 1 or key in taken}
    for key in wishes.keys() - clashing:
        (filed,) = wishes[key]
        files[filed.offer.address] = filed
        taken.add(key)
    clashes = []
    for key in sorted(clashing):
        given = _tell_apart(sorted(wishes[key], key=lambda filed: filed.offer.address), taken)
        files.update((filed.offer.address, filed) for filed in given)
        clashes.append(Clash(min(filed.path for filed in wishes[key]), tuple(given)))
    return Plan([files[address] for address in unique], clashes, count - len(unique), staying)


def _tell_apart(wishes: list[Filed], taken: set[str]) -> list[Filed]:
    """Give offers that want one path a path each, by the first mark that tells them all apart.

    The marks are tried in the order in which people would: the query, the folder, the host, and
    what always works, a fingerprint of the address.
    """
    for mark in (_query_mark, _folder_mark, _host_mark, _fingerprint_mark):
        given = [Filed(wish.offer, _marked(wish.path, mark(wish.offer))) for wish in wishes]
        folded = {fold(filed.path) for filed in given}
        if len(folded) == len(given) and not folded & taken:
            break
    taken |= folded
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


def _marked(path: str, mark: str) -> str:
    """Put a mark into a path's name, before its extension; a long mark loses its middle."""
    if not mark:
        return path
    if len(mark) > 60:
        mark = f"{mark[:30]}~{fingerprint(mark)}"
    folder, slash, name = path.rpartition("/")
    stem, dot, ending = name.partition(".") if not name.startswith(".") else (name, "", "")
    return f"{folder}{slash}{safe_name(f'{stem} ({mark}){dot}{ending}')}"
