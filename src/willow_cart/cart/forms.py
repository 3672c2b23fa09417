"""The file formats of carts: our table, and open standards, with the lists of BagIt."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from pathlib import Path
from typing import BinaryIO, TextIO

from willow_cart.cart.json_lines import read_json_lines, write_json_lines
from willow_cart.cart.rows import read_sheet
from willow_cart.cart.sheet import MAX_HEADER_BYTES, Sheet, encoding_of, looks_like_sheet
from willow_cart.errors import BadOption, UnreadableSource
from willow_cart.formats.bagit import (
    looks_like_fetch_list,
    read_fetch_list,
    write_fetch_list,
)
from willow_cart.kinds import ZIP, extension_of
from willow_cart.model import Issue, Offer
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value
from willow_cart.workbooks import EXTENSIONS

Opened = Callable[[], BinaryIO]
Read = Callable[[Opened, str, list[str]], Iterator[Offer | Issue]]

_MARKUP = re.compile(r"\s*<")


class Form(Value):
    """A format for passing offers on; it has no marks, so it contains only what is taken.

    Attributes:
        name: what users call it.
        write: writes offers to a text.
        keeps_checksums: whether it has room for them.
    """

    name: str
    write: Callable[[Iterable[Offer], TextIO], None]
    keeps_checksums: bool


def form_for(path: Path) -> Form | None:
    """Return the format for a file name; None for our table.

    Raises:
        BadOption: no such form.
    """
    ending = path.suffix.lower()
    if ending in (".csv", ".tsv"):
        return None
    if path.name.lower() == "fetch.txt":
        return Form("BagIt fetch.txt", write_fetch_list, keeps_checksums=False)
    if ending == ".txt":
        return Form("list of addresses", _write_addresses, keeps_checksums=False)
    if ending == ".jsonl":
        return Form("JSON Lines", write_json_lines, keeps_checksums=True)
    if ending == ".meta4":
        from willow_cart.formats.metalink import write_metalink  # the XML library takes its time

        return Form("Metalink", write_metalink, keeps_checksums=True)
    raise BadOption(
        f"--cart {path}",
        "unknown file type",
        "use .csv or .tsv for a cart, or .txt, .jsonl, .meta4 or fetch.txt",
    )


def _write_addresses(offers: Iterable[Offer], to: TextIO) -> None:
    to.writelines(f"{without_secrets(offer.address)}\n" for offer in offers)


def reader_for(opened: Opened, place: str) -> Read | None:
    """Return the reader for a file, chosen by its first bytes.

    None if it is in none of these formats.

    Args:
        opened: opens the file.
        place: where it is.
    """
    with opened() as file:
        beginning = file.read(MAX_HEADER_BYTES)
    if beginning.startswith(ZIP):
        return _reader_of_workbook(opened, place)
    try:
        text = beginning.decode(encoding_of(beginning, place), "ignore")
    except UnreadableSource:
        return None  # reading it as a list reports the error
    first = text.lstrip().partition("\n")[0]
    if _MARKUP.match(text):
        return _read_metalink if "<metalink" in text[:4096] else None
    if looks_like_sheet(text):
        return lambda opened, place, notes: read_sheet(Sheet(opened, place), notes)
    if first.startswith("{") and first.rstrip().endswith("}"):
        return partial(_read_lines, read_json_lines)
    if looks_like_fetch_list(first):
        return partial(_read_lines, read_fetch_list)
    return None


def _reader_of_workbook(opened: Opened, place: str) -> Read | None:
    if extension_of(place) not in EXTENSIONS:
        return None
    with opened() as file:
        sheet = Sheet.in_workbook(file, place)
    return None if sheet is None else lambda _opened, _place, notes: read_sheet(sheet, notes)


def _read_metalink(opened: Opened, place: str, _notes: list[str]) -> Iterator[Offer | Issue]:
    from willow_cart.formats.metalink import read_metalink

    with opened() as file:
        yield from read_metalink(file, place)


def _read_lines(
    read: Callable[[Iterable[str], str], Iterator[Offer | Issue]],
    opened: Opened,
    place: str,
    _notes: list[str],
) -> Iterator[Offer | Issue]:
    yield from read(lines_of(opened, place), place)


def lines_of(opened: Opened, place: str) -> Iterator[str]:
    """Yield the lines of a text in UTF-8, or in UTF-16 with a byte-order mark.

    What is not UTF-8 in a line is left in it as lone surrogates.

    Raises:
        UnreadableSource: it is not text, or broken UTF-16.
    """
    with opened() as file:
        beginning = file.read(MAX_HEADER_BYTES)
    encoding = encoding_of(beginning, place)
    try:
        with io.TextIOWrapper(opened(), encoding, errors="surrogateescape") as text:
            yield from text
    except UnicodeDecodeError:
        raise UnreadableSource(place, "is broken UTF-16", "save it as UTF-8") from None
