"""Metalink (RFC 5854): files with their sizes, hashes and mirrors, as XML."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import BinaryIO, TextIO
from xml.sax.saxutils import escape, quoteattr

from willow_cart.addresses import normalise
from willow_cart.checks.digests import read_checksum
from willow_cart.errors import BadAddress, BadOption
from willow_cart.model import Checksum, Issue, Offer
from willow_cart.redaction import without_secrets
from willow_cart.safe_xml import BrokenXml, Element, elements_named, local_name
from willow_cart.units import read_count

NAMESPACE = "urn:ietf:params:xml:ns:metalink"
"""RFC 5854, 3."""

# RFC 5854, 4.2.16.1: 999999 is last, and is what a URL without a priority has.
_LOWEST_PRIORITY = 999_999

# The registry of hash function names (RFC 5854, 4.2.3), as far as both sides know them.
_HASHES = {
    "md5": "md5", "sha1": "sha-1", "sha224": "sha-224", "sha256": "sha-256", "sha384": "sha-384",
    "sha512": "sha-512",
}  # fmt: skip

# XML 1.0, 2.2: no document may hold these, not even escaped.
_NO_CHARACTERS = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


def read_metalink(file: BinaryIO, place: str) -> Iterator[Offer | Issue]:
    """Read the files of a Metalink document one after the other.

    Of the URLs of a file the one with the lowest priority number is its address, and the others
    are its mirrors. Hashes of kinds not known here are passed over, and so are URLs of schemes
    with unsupported schemes and references to documents of other kinds (`metaurl`).

    Yields:
        An offer for each file, or the reason for its absence.
    """
    number = 0
    try:
        for element in elements_named(file, f"{{{NAMESPACE}}}file"):
            number += 1
            try:
                yield _offer_from(element, place, number)
            except (BadAddress, BadOption) as error:
                yield Issue(f"{place}, file {number}", str(error))
    except BrokenXml as error:
        yield Issue(place, f"is broken from file {number + 1} on: {error}; get it again")


def _offer_from(element: Element, place: str, number: int) -> Offer:
    name = element.get("name", "")
    size, text = None, ""
    urls: list[tuple[int, str]] = []
    checksums: list[Checksum] = []
    for child in element:
        said = (child.text or "").strip()
        match local_name(child):
            case "url":
                priority = child.get("priority", "")
                urls.append((read_count(priority) or _LOWEST_PRIORITY, said))
            case "size":
                size = read_count(said)
            case "description":
                text = said
            case "hash":
                checksums += _known_hash(child.get("type", ""), said)
    addresses = [address for _, url in sorted(urls, key=_by_priority) for address in _spoken(url)]
    if not addresses:
        raise BadAddress(
            name or "a file", "has no address with a supported scheme", "check its content"
        )
    folder, _, last = name.rpartition("/")
    return Offer(
        address=addresses[0],
        source=place,
        number=number,
        name=last or None,
        folder=folder,
        size=size,
        checksums=tuple(checksums),
        text=" ".join(text.split()),
        mirrors=tuple(dict.fromkeys(addresses[1:])),
    )


def _by_priority(url: tuple[int, str]) -> int:
    return url[0]


def _known_hash(kind: str, digits: str) -> list[Checksum]:
    if kind.lower() not in _HASHES.values():
        return []
    return [read_checksum(digits, algorithm=kind)]


def _spoken(url: str) -> list[str]:
    try:
        return [normalise(url)]
    except BadAddress:
        return []


def write_metalink(offers: Iterable[Offer], to: TextIO) -> None:
    """Write offers as a Metalink document, without secrets."""
    to.write('<?xml version="1.0" encoding="utf-8"?>\n')
    to.write(f'<metalink xmlns="{NAMESPACE}">\n')
    for offer in offers:
        lines = [f"  <file name={quoteattr(_allowed(offer.path))}>"]
        if offer.size is not None:
            lines.append(f"    <size>{offer.size}</size>")
        if offer.text:
            lines.append(f"    <description>{escape(_allowed(offer.text))}</description>")
        lines += [
            f'    <hash type="{_HASHES[each.algorithm]}">{each.digest}</hash>'
            for each in offer.checksums
            if each.algorithm in _HASHES
        ]
        lines += [
            f'    <url priority="{priority}">{escape(without_secrets(address))}</url>'
            for priority, address in enumerate((offer.address, *offer.mirrors), 1)
        ]
        to.write("\n".join([*lines, "  </file>\n"]))
    to.write("</metalink>\n")


def _allowed(text: str) -> str:
    return _NO_CHARACTERS.sub("_", text)
