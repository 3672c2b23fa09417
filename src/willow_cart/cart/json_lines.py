"""JSON Lines: one object per offer, with the columns of a cart as keys."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import Any, TextIO

from willow_cart.addresses import normalise
from willow_cart.cart.columns import CART_COLUMNS
from willow_cart.errors import BadOption, UsageError
from willow_cart.model import Issue, Offer
from willow_cart.units import json_text

_MAX_DIGITS = 30


def read_json_lines(lines: Iterable[str], place: str) -> Iterator[Offer | Issue]:
    """Read offers; those whose `take` is false are skipped.

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
            if entry.get("take", True):
                yield _offer_from(entry, place, count)
        except RecursionError:
            yield Issue(f"{place}, line {number}", "is nested too deeply")
        except (UsageError, ValueError) as error:
            # A number too large, an invalid date, a lone surrogate: all are ValueErrors.
            yield Issue(f"{place}, line {number}", f"cannot be taken: {error}")


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
