"""The file formats of carts: our table, JSON Lines, and open standards."""

from __future__ import annotations

import io
import json
import re
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any, BinaryIO, TextIO

from willow_cart.addresses import normalise
from willow_cart.cart.columns import CART_COLUMNS
from willow_cart.cart.rows import read_sheet
from willow_cart.cart.sheet import MAX_HEADER_BYTES, Sheet, encoding_of, looks_like_sheet
from willow_cart.errors import BadOption, UnreadableSource, UsageError
from willow_cart.formats.bagit import (
    looks_like_fetch_list,
    read_fetch_list,
    write_fetch_list,
)
from willow_cart.kinds import ZIP, extension_of
from willow_cart.model import Issue, Offer
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value
from willow_cart.units import json_text
from willow_cart.workbooks import EXTENSIONS

_MAX_DIGITS = 30


def read_json_lines(
    lines: Iterable[str], place: str, *, left_out: bool = False
) -> Iterator[Offer | Issue]:
    """Read offers; those whose `take` is false are skipped, or are the only ones read.

    Only `url` must be there. What is not an object with one is a trouble.
    """
    count = 0
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        count += 1
        try:
            entry = json.loads(line, parse_int=_read_int)
            if not isinstance(entry, dict):
                raise BadOption(line.strip()[:60], "not an object", 'write {"url": ...}')
            if bool(entry.get("take", True)) is not left_out:
                yield _offer_from(entry, place, count)
        except RecursionError:
            yield Issue(f"{place}, line {number}", "is nested too deeply")
        except (UsageError, ValueError) as error:
            # A number too large, an invalid date, a lone surrogate: all are ValueErrors.
            yield Issue(f"{place}, line {number}", f"unreadable: {error}")


def _read_int(digits: str) -> int:
    """Parse an integer; too many digits are refused, because parsing them is slow.

    Raises:
        ValueError: it is one.
    """
    if len(digits) > _MAX_DIGITS:
        raise ValueError("a number has too many digits")
    return int(digits)


def _offer_from(entry: dict[str, Any], place: str, count: int) -> Offer:
    def text(key: str) -> str:
        value = entry.get(key)
        if value is not None and not isinstance(value, str):
            raise BadOption(f"{key} {value!r}", "not text", "put it in quotes")
        written = value or ""
        written.encode()  # refuses lone surrogates
        return written

    def number(key: str) -> int | None:
        value = entry.get(key)
        if value is None or (isinstance(value, int) and not isinstance(value, bool) and value >= 0):
            return value
        raise BadOption(f"{key} {value!r}", "not an integer", "write it without quotes")

    def words(key: str) -> list[str]:
        value = entry.get(key) or []
        if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
            raise BadOption(f"{key} {value!r}", "not a list of strings", 'write ["..."]')
        return value

    moment = datetime.fromisoformat(written) if (written := text("modified")) else None
    if moment is not None and moment.tzinfo is None:
        moment = moment.replace(tzinfo=UTC)
    name, folder = text("name") or None, entry.get("folder")
    alone: dict[str, Any] = {
        column.offer_field: text(column.name)
        if column.read_value is None
        else column.read_value(entry.get(column.name) or [])
        for column in CART_COLUMNS
        if column.offer_field
    }
    return Offer(
        address=normalise(text("url")),
        source=text("source") or place,
        number=number("number") or count,
        name=name,
        folder=text("folder") if folder or (name and folder is not None) else None,
        size=number("size"),
        about=number("about"),
        about_within=number("about_within"),
        modified=moment,
        **alone,
        mirrors=tuple(normalise(each) for each in words("mirrors")),
    )


def entry_of(offer: Offer, *, taken: bool) -> dict[str, object]:
    """Return an offer as an object, without secrets."""
    entry: dict[str, object] = {}
    for column in CART_COLUMNS:
        value = column.as_value(offer)
        entry[column.name] = value.isoformat() if isinstance(value, datetime) else value
        entry |= {key: make(offer) for key, make in column.besides.items()}
    return entry | {"take": taken}


def write_json_lines(offers: Iterable[Offer], to: TextIO) -> None:
    """Write offers, one object per line."""
    for offer in offers:
        entry = entry_of(offer, taken=True)
        to.write(json_text(entry) + "\n")


Opened = Callable[[], BinaryIO]
Read = Callable[[Opened, str, list[str]], Iterator[Offer | Issue]]

_MARKUP = re.compile(r"\s*<")


class Form(Value):
    """A format for passing offers on; it has no marks, so it contains only the rows that are taken.

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


def reader_for(opened: Opened, place: str, *, left_out: bool = False) -> Read | None:
    """Return the reader for a file, chosen by its first bytes.

    None if it is in none of these formats.

    Args:
        opened: opens the file.
        place: its path or address, for messages.
        left_out: whether it reads the rows that are out, instead of those that are taken; formats
            without marks have none.
    """
    with opened() as file:
        beginning = file.read(MAX_HEADER_BYTES)
    if beginning.startswith(ZIP):
        return _reader_of_workbook(opened, place, left_out=left_out)
    try:
        text = beginning.decode(encoding_of(beginning, place), "ignore")
    except UnreadableSource:
        return None  # reading it as a list reports the error
    first = text.lstrip().partition("\n")[0]
    if _MARKUP.match(text):
        return _read_metalink if "<metalink" in text[:4096] else None
    if looks_like_sheet(text):
        return lambda opened, place, notes: read_sheet(
            Sheet(opened, place), notes, left_out=left_out
        )
    if first.startswith("{") and first.rstrip().endswith("}"):
        return partial(_read_lines, partial(read_json_lines, left_out=left_out))
    if looks_like_fetch_list(first):
        return partial(_read_lines, read_fetch_list)
    return None


def _reader_of_workbook(opened: Opened, place: str, *, left_out: bool) -> Read | None:
    if extension_of(place) not in EXTENSIONS:
        return None
    with opened() as file:
        sheet = Sheet.in_workbook(file, place)
    if sheet is None:
        return None
    return lambda _opened, _place, notes: read_sheet(sheet, notes, left_out=left_out)


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

    Bytes that are not UTF-8 become lone surrogates.

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
