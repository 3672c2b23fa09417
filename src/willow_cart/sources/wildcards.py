"""Wildcards in addresses: those of web servers, and what is like one that matches nothing."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Iterator
from fnmatch import fnmatchcase
from itertools import islice
from urllib.parse import unquote, urlsplit

from willow_cart.addresses import WEB, name_of, scheme_of
from willow_cart.errors import NothingChosen
from willow_cart.model import Offer
from willow_cart.redaction import without_secrets

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
        names: that are there.
        folder: where they are.
    """
    wanted = name_of(address.rstrip("/")).replace("*", "").replace("?", "")
    near = near_names(wanted, names)
    advice = f"nearby: {', '.join(near)}" if near else f"{without_secrets(folder)} is empty"
    shown = without_secrets(address)
    return NothingChosen(shown, "matches nothing", advice, offered=0, rule=shown)
