"""Wildcards in the addresses of web servers: what a page links to in a folder and below it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from fnmatch import fnmatchcase
from urllib.parse import unquote, urlsplit

from willow_cart.addresses import WEB, name_of, scheme_of
from willow_cart.model import Offer
from willow_cart.sources.near_names import nothing_matches

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
        NothingChosen: nothing matches; the error says what is near.
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
