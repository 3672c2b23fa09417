"""List folders by their own protocol, and expand wildcards there: FTP, SFTP, local files."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Iterator
from fnmatch import fnmatchcase
from itertools import islice
from urllib.parse import unquote, unquote_to_bytes, urlsplit

from willow_cart.addresses import WEB, name_of, scheme_of
from willow_cart.errors import NothingChosen, TransferFailed, UnreadableSource
from willow_cart.model import Offer
from willow_cart.protocols import DirectoryEntry, DirectoryLister, FolderEntries
from willow_cart.redaction import without_secrets
from willow_cart.sources.listing import Kind, Listing, folder_below, folder_of

_MAX_SUGGESTIONS = 5

# Comparing takes a millisecond for a few hundred names; no more are looked through.
_MAX_NAMES = 500


def has_web_wildcard(address: str) -> bool:
    """Whether the path of a web address contains `*`; a question mark begins its query."""
    return scheme_of(address) in WEB and "*" in urlsplit(address).path


def matching_offers(
    address: str, offers_below: Callable[[str, int], Iterator[Offer]]
) -> Iterator[Offer]:
    """Yield the offers of a page that an address with wildcards matches.

    An asterisk stands for any characters but a slash.

    Args:
        address: as typed by the user.
        offers_below: gives what is offered at a folder's address, and down to a level below it.

    Raises:
        NothingChosen: nothing matches; the error suggests similar names.
    """
    parts = urlsplit(address)
    segments = parts.path.split("/")
    first = next(at for at, segment in enumerate(segments) if "*" in segment)
    top = f"{parts.scheme}://{parts.netloc}{'/'.join(segments[:first])}/"
    pattern = [_escaped(segment) for segment in segments]
    names: list[str] = []
    some = False
    for offer in offers_below(top, len(segments) - first):
        there = urlsplit(offer.address)
        found = there.path.split("/")
        if (
            there.netloc == parts.netloc
            and len(found) == len(pattern)
            and all(fnmatchcase(unquote(one), other) for one, other in zip(found, pattern))  # noqa: B905
        ):
            some = True
            yield offer
        elif len(names) < _MAX_NAMES:
            names.append(name_of(offer.address))
    if not some:
        raise nothing_matches(address, names, top)


def _escaped(segment: str) -> str:
    """Return a segment as a pattern in which nothing but the asterisk is special."""
    return unquote(segment).replace("[", "[[]").replace("?", "[?]")


def near_names(wanted: str, names: Iterable[str]) -> list[str]:
    """Return the names that are most like one, or the first ones if none is."""
    there = [name for name in islice(names, _MAX_NAMES) if name.strip("/")]
    return (
        difflib.get_close_matches(wanted, there, _MAX_SUGGESTIONS, 0.3) or there[:_MAX_SUGGESTIONS]
    )


def nothing_matches(address: str, names: Iterable[str], folder: str) -> NothingChosen:
    """Return the error for an address with wildcards that matches nothing.

    Args:
        address: as typed by the user, in normal form.
        folder: where they are.
    """
    wanted = name_of(address.rstrip("/")).replace("*", "").replace("?", "")
    near = near_names(wanted, names)
    advice = f"nearby: {', '.join(near)}" if near else f"{without_secrets(folder)} is empty"
    shown = without_secrets(address)
    return NothingChosen(shown, "matches nothing", advice, offered=0, rule=shown)


def has_wildcard(address: str) -> bool:
    """Whether the path of an address contains wildcards and its scheme has no queries."""
    if scheme_of(address) in WEB:
        return False
    return any(_is_pattern(segment) for segment in urlsplit(address).path.split("/"))


def list_directory(
    directory: DirectoryLister,
    address: str,
    source: str,
    *,
    listed: bool = False,
    kind: Kind = Kind.FOLDER,
) -> Listing:
    """List an address: a folder, a file, or all matches of its wildcards.

    Args:
        directory: what lists it.
        address: as typed by the user, or as a folder above lists it.
        source: the source that the offers are of.
        listed: whether it is a folder that another lists, in whose name nothing is a wildcard.
        kind: what its folders are.

    Raises:
        TransferFailed: the server does not answer, or with nothing to read.
        UnreadableSource: nothing is there; the error suggests similar names.
        NothingChosen: its wildcards match nothing; as above.
    """
    if has_wildcard(address) and not listed:
        top, found = expand_wildcards(directory, address)
        if not found.entries and not found.problems:
            names = (_name_of(each) for each in directory.entries(top).entries)
            raise nothing_matches(address, names, top)
        return _listing(top, found, source, kind)
    if address.endswith("/"):
        return _listing(address, directory.entries(address), source, kind)
    entry = directory.find(address)
    if entry is None:
        raise UnreadableSource(
            without_secrets(address), "not found", _what_is_near(directory, address)
        )
    if entry.is_folder:
        return _listing(entry.address, directory.entries(entry.address), source, kind)
    return _listing(folder_of(address), FolderEntries([entry]), source, kind)


def expand_wildcards(directory: DirectoryLister, address: str) -> tuple[str, FolderEntries]:
    """Yield everything that an address with `*` and `?` matches, level by level.

    Returns:
        The folder above the first wildcard, and what there is.
    """
    parts = urlsplit(address)
    segments = parts.path.rstrip("/").split("/")[1:]
    first = next(at for at, segment in enumerate(segments) if _is_pattern(segment))
    top = f"{parts.scheme}://{parts.netloc}/" + "".join(f"{each}/" for each in segments[:first])
    folders = [top]
    problems: list[str] = []
    for segment in segments[first:-1]:
        found = [e for folder in folders for e in _matching(directory, folder, segment, problems)]
        folders = [entry.address for entry in found if entry.is_folder]
    last = segments[-1]
    found = [e for folder in folders for e in _matching(directory, folder, last, problems)]
    return top, FolderEntries(found, tuple(problems))


def _matching(
    directory: DirectoryLister, folder: str, segment: str, problems: list[str]
) -> Iterator[DirectoryEntry]:
    if not _is_pattern(segment):
        if entry := directory.find(folder + segment):
            yield entry
        return
    # One character a byte, as names in no known character set can only be compared.
    pattern = _bytes_of(segment).replace("[", "[[]")
    listed = directory.entries(folder)
    problems += listed.problems
    for entry in listed.entries:
        if fnmatchcase(_bytes_of(entry.address.rstrip("/").rpartition("/")[2]), pattern):
            yield entry


def _listing(folder: str, found: FolderEntries, source: str, kind: Kind) -> Listing:
    listing = Listing(folder, kind, problems=[*found.problems])
    for entry in found.entries:
        if entry.is_folder:
            listing.below.append(entry.address)
        else:
            listing.offers.append(
                Offer(
                    entry.address,
                    source,
                    name=entry.name,
                    folder=folder_below(folder, entry.address),
                    size=entry.size,
                    modified=entry.modified,
                )
            )
    return listing


def _what_is_near(directory: DirectoryLister, address: str) -> str:
    """Return names that exist next to one that does not."""
    try:
        entries = directory.entries(folder_of(address)).entries
    except TransferFailed:
        return "its folder was not found either; check the address"
    near = near_names(name_of(address), map(_name_of, entries))
    return f"nearby: {', '.join(near)}" if near else "its folder is empty"


def _name_of(entry: DirectoryEntry) -> str:
    return entry.name or name_of(entry.address.rstrip("/"))


def _is_pattern(segment: str) -> bool:
    text = _bytes_of(segment)
    return "*" in text or "?" in text


def _bytes_of(segment: str) -> str:
    return unquote_to_bytes(segment).decode("latin-1")
