"""The plan of a haul: one path for every offer, decided before anything is fetched."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Container, Iterable, Iterator, Mapping
from dataclasses import dataclass

from willow_cart.addresses import fingerprint, host_of, query_of, without_secrets
from willow_cart.filing.layouts import Layout
from willow_cart.filing.names import fold, safe_name, safe_path
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
        changed: offers whose names or folders no file system would take as they are.
    """

    files: list[Filed]
    clashes: list[Clash]
    twice: int
    staying: list[Filed]
    changed: list[Filed]


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

    wishes: defaultdict[str, list[Filed]] = defaultdict(list)
    files: dict[str, Filed] = {}
    staying: list[Filed] = []
    changed: list[str] = []
    for address, offer in unique.items():
        unsafe = layout.wish_for(offer)
        wish = safe_path(unsafe)
        wishes[fold(wish)].append(Filed(offer, wish))
        # Folders without a name are lost on the way, so they are looked for in the address.
        if wish != unsafe or "//" in address.partition("://")[2]:
            changed.append(address)
        at_home = held.get(without_secrets(address))
        if at_home is not None:
            files[address] = Filed(offer, at_home)
            # A clash of an earlier haul is no change of mind about the layout.
            if at_home.rpartition("/")[0] != wish.rpartition("/")[0]:
                staying.append(files[address])
    clashes = _give_paths(wishes, files, _not_to_be_had(held, wishes))
    return Plan(
        [files[address] for address in unique],
        clashes,
        count - len(unique),
        staying,
        [files[address] for address in changed],
    )


def _not_to_be_had(held: Mapping[str, str], wishes: Iterable[str]) -> set[str]:
    """Paths that are taken by files here, or by folders here or to come.

    One path cannot be a file and a folder: `/seasons` beside `/seasons/2029.zip`.
    """
    taken = {fold(path) for path in held.values()}
    for path in [*taken, *wishes]:
        taken.update(_folders_of(path))
    return taken


def _give_paths(
    wishes: Mapping[str, list[Filed]], files: dict[str, Filed], taken: set[str]
) -> list[Clash]:
    """Give every offer that has no path yet one of its own, and say which clashed.

    Args:
        wishes: the offers that want each path, by its folded form.
        files: the offers that have a path, by address; the others are added.
        taken: the folded paths that are not to be had.
    """
    # Paths that only one offer wants are given first, so that the ways out of a clash avoid them.
    clashing = []
    for key, wanting in wishes.items():
        if all(filed.offer.address in files for filed in wanting):
            continue
        if len(wanting) == 1 and key not in taken:
            files[wanting[0].offer.address] = wanting[0]
        else:
            clashing.append(key)
    taken = taken | {fold(filed.path) for filed in files.values()}
    clashes = []
    for key in sorted(clashing):
        given = _tell_apart(wishes[key], files.keys(), taken)
        files.update((filed.offer.address, filed) for filed in given)
        taken.update(fold(filed.path) for filed in given)
        clashes.append(Clash(min(filed.path for filed in wishes[key]), tuple(given)))
    return clashes


def _tell_apart(wishes: list[Filed], settled: Container[str], taken: set[str]) -> list[Filed]:
    """Give offers that want one path a path each, by the first mark that tells them all apart.

    The marks are tried in the order in which people would: the query, the folder, the host, and
    what always works, a fingerprint of the address.

    Args:
        wishes: the offers with the path they all want.
        settled: addresses that have a path already; they count in telling apart, and keep it.
        taken: paths that are not to be had.
    """
    wishes = sorted(wishes, key=lambda filed: filed.offer.address)
    for mark in (_query_mark, _folder_mark, _host_mark, _fingerprint_mark):
        marked = [Filed(wish.offer, _marked(wish.path, mark(wish.offer))) for wish in wishes]
        given = [filed for filed in marked if filed.offer.address not in settled]
        apart = len({fold(filed.path) for filed in marked}) == len(marked)
        if apart and not {fold(filed.path) for filed in given} & taken:
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


def _marked(path: str, mark: str) -> str:
    """Put a mark into a path's name, before its extension; a long mark loses its middle."""
    if not mark:
        return path
    if len(mark) > 60:
        mark = f"{mark[:30]}~{fingerprint(mark)}"
    folder, slash, name = path.rpartition("/")
    stem, dot, ending = name.partition(".") if not name.startswith(".") else (name, "", "")
    return f"{folder}{slash}{safe_name(f'{stem} ({mark}){dot}{ending}')}"
