"""Looking at sources: what each one offers, whatever it is."""

from __future__ import annotations

import codecs
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

from willow_cart.addresses import looks_like_address, without_secrets
from willow_cart.cart import looks_like_table, read_table
from willow_cart.errors import NotUnderstood, UnreadableSource
from willow_cart.model import Offer, Trouble
from willow_cart.sources.lists import offers_from, read_list

STANDARD_INPUT = "-"

# Larger ones are no lists that a person keeps.
_LARGEST_LIST = 1 << 30


@dataclass(slots=True)
class Look:
    """What sources offer, and what could not be taken from them.

    Attributes:
        offers: in the order of the sources and within each as it offers them.
        troubles: lines and sources that could not be read.
        read: how many of the sources could be read at all.
    """

    offers: list[Offer] = field(default_factory=list)
    troubles: list[Trouble] = field(default_factory=list)
    read: int = 0


def look(sources: Iterable[str], standard_input: BinaryIO | None = None) -> Look:
    """Look at sources: addresses, lists and tables in files, `-` for standard input.

    What cannot be read is a trouble, and the rest goes on.

    Args:
        sources: as the person wrote them.
        standard_input: what `-` stands for.

    Raises:
        NotUnderstood: none of the sources can be read; the error is that of the first.
    """
    found = Look()
    failures: list[NotUnderstood] = []
    for source in sources:
        try:
            for item in _read_source(source, standard_input):
                if isinstance(item, Trouble):
                    found.troubles.append(item)
                else:
                    found.offers.append(item)
            found.read += 1
        except NotUnderstood as error:
            failures.append(error)
    if failures and not found.read:
        raise failures[0]
    found.troubles += [Trouble(failure.thing, failure.why) for failure in failures]
    return found


def _read_source(source: str, standard_input: BinaryIO | None) -> Iterator[Offer | Trouble]:
    if looks_like_address(source):
        yield from offers_from(source, without_secrets(source))
        return
    if source == STANDARD_INPUT:
        if standard_input is None:
            raise UnreadableSource("-", "there is no standard input", "name a file")
        place, raw = "standard input", standard_input.read(_LARGEST_LIST)
    else:
        place, raw = source, read_file(source)
    text, troubles = _decode(raw, place)
    yield from read_table(text, place) if looks_like_table(text) else read_list(text, place)
    yield from troubles


def read_file(name: str) -> bytes:
    """Read a list's file.

    Raises:
        UnreadableSource: it cannot be read; the error says what may have been meant.
    """
    path = Path(name)
    try:
        if path.is_dir():
            raise UnreadableSource(name, "is a folder", "name a file with addresses in it")
        with path.open("rb") as file:
            return file.read(_LARGEST_LIST)
    except FileNotFoundError:
        raise UnreadableSource(
            name, "there is no such file", "an address begins with https:// or http://"
        ) from None
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise UnreadableSource(name, f"cannot be read: {reason}", "see to the file") from None


def _decode(raw: bytes, place: str) -> tuple[str, list[Trouble]]:
    """Decode a list as UTF-8, or as UTF-16 where a byte-order mark says so.

    A line that is neither is left empty, so that the others keep their numbers.
    """
    if raw.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        try:
            return raw.decode("utf-16"), []
        except UnicodeDecodeError:
            raise UnreadableSource(place, "is broken UTF-16", "save it as UTF-8") from None
    raw = raw.removeprefix(codecs.BOM_UTF8)
    if b"\0" in raw[:4096]:
        raise UnreadableSource(place, "is no text", "name a list of addresses or a table")
    try:
        return raw.decode("utf-8"), []
    except UnicodeDecodeError:
        pass
    lines: list[str] = []
    troubles: list[Trouble] = []
    for number, line in enumerate(raw.split(b"\n"), 1):
        try:
            lines.append(line.decode("utf-8"))
        except UnicodeDecodeError:
            lines.append("")
            troubles.append(Trouble(f"{place}, line {number}", "is not UTF-8; save it as UTF-8"))
    return "\n".join(lines), troubles
