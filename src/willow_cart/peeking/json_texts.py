"""JSON texts (RFC 8259) and lines of JSON, of which the beginning is enough."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from itertools import islice

from willow_cart.checks.soft_failures import as_utf8
from willow_cart.kinds import extension_of
from willow_cart.peeking.content import Content, Fact, PeekedColumn, Sample, Unreadable

_LINES = frozenset({"jsonl", "ndjson"})

# Records from which keys and types are told.
_MAX_RECORDS = 1000

_DECODER = json.JSONDecoder()
_BLANK = re.compile(r"[ \t\r\n]*")


def looks_like_json(name: str, beginning: bytes) -> bool:
    """Whether a file is JSON by its name and its beginning."""
    first = as_utf8(beginning).lstrip()[:1]
    return extension_of(name) in _LINES | {"json", "geojson"} and first in (b"{", b"[")


def look_at_json(sample: Sample, rows: int) -> Content:
    """Tell the shape of a JSON text, or of lines of JSON, and the first records.

    Raises:
        Unreadable: it is neither.
    """
    text = as_utf8(sample.beginning).decode("utf-8", "replace")
    try:
        if extension_of(sample.name) in _LINES:
            return _lines(sample, text, rows)
        return _document(sample, text, rows)
    except RecursionError:
        raise Unreadable("it is nested too deeply") from None


def _lines(sample: Sample, text: str, rows: int) -> Content:
    lines = text.splitlines()
    if not sample.is_whole and len(lines) > 1:
        del lines[-1]  # it may have been cut in two
    records = []
    for number, line in enumerate(filter(str.strip, lines[:_MAX_RECORDS]), 1):
        try:
            records.append(json.loads(line))
        except ValueError:
            raise Unreadable(f"line {number} is not JSON") from None
    facts: dict[str, Fact] = {}
    if sample.is_whole:
        facts["records"] = sum(bool(line.strip()) for line in lines)
    elif sample.length is not None and lines:
        used = len("\n".join(lines).encode()) + 1
        facts["records (estimated)"] = round(sample.length / used * len(lines))
    return _of_records("lines of JSON", facts, records, rows)


def _document(sample: Sample, text: str, rows: int) -> Content:
    at = _next(text, 0)
    if text[at : at + 1] == "[":
        records = list(islice(_items(text, at + 1), _MAX_RECORDS))
        facts: dict[str, Fact] = {"shape": "an array"}
        if sample.is_whole:
            facts["records"] = len(_whole(text))
        return _of_records("JSON", facts, records, rows)
    members = list(_members(text, at + 1))
    shape = {key: kind for key, kind, _ in members}
    facts = {key: kind for key, kind, _ in members}
    if not sample.is_whole:
        facts["..."] = "more may follow"
    # What is long in a document is its data.
    key, _, records = max(members, key=lambda each: len(each[2]), default=("", "", []))
    if records:
        told = _of_records("JSON", facts, records, rows)
        return Content(told.form, facts, told.columns, told.rows, f"record in {key}")
    columns = [PeekedColumn(key, kind) for key, kind in shape.items()]
    return Content("JSON", facts, columns, (), "")


def _whole(text: str) -> list[object]:
    try:
        found = json.loads(text)
    except ValueError as error:
        raise Unreadable(f"it is not JSON: {str(error).lower()}") from None
    return found if isinstance(found, list) else [found]


def _next(text: str, at: int) -> int:
    """Return where the next character that is not a space is."""
    found = _BLANK.match(text, at)
    return found.end() if found else at


def _items(text: str, at: int) -> Iterator[object]:
    """Yield the items of an array, up to one that is cut in two."""
    while True:
        at = _next(text, at)
        try:
            value, end = _DECODER.raw_decode(text, at)
        except ValueError:
            return
        at = _next(text, end)
        if at >= len(text):
            return  # a number may go on
        yield value
        if text[at] != ",":
            return
        at += 1


def _members(text: str, at: int) -> Iterator[tuple[str, str, list[object]]]:
    """Yield the keys of an object, with the kinds of their values, and the items of arrays."""
    while True:
        at = _next(text, at)
        try:
            key, end = _DECODER.raw_decode(text, at)
        except ValueError:
            return
        at = _next(text, end)
        if not isinstance(key, str) or text[at : at + 1] != ":":
            return
        at = _next(text, at + 1)
        items = list(islice(_items(text, at + 1), _MAX_RECORDS)) if text[at : at + 1] == "[" else []
        try:
            value, end = _DECODER.raw_decode(text, at)
        except ValueError:
            if text[at : at + 1] == "[":
                yield key, "array", items
            return
        kind = f"array of {len(value)}" if isinstance(value, list) else _kind_of(value)
        yield key, kind if isinstance(value, (list, dict)) else _short(value), items
        at = _next(text, end)
        if text[at : at + 1] != ",":
            return
        at += 1


def _of_records(form: str, facts: dict[str, Fact], records: Sequence[object], rows: int) -> Content:
    """Return records as a table, with a column for each key if they are objects."""
    objects = [each for each in records if isinstance(each, dict)]
    if len(objects) < len(records) or not objects:
        shown = [[_short(each)] for each in records[:rows]]
        return Content(form, facts, [PeekedColumn("value", _kinds_of(records))], shown, "record")
    keys = list(dict.fromkeys(key for each in objects for key in each))
    columns = [
        PeekedColumn(key, _kinds_of([each[key] for each in objects if key in each])) for key in keys
    ]
    shown = [[_short(each[key]) if key in each else "" for key in keys] for each in objects[:rows]]
    return Content(form, facts, columns, shown, "record")


def _kinds_of(values: Sequence[object]) -> str:
    return " or ".join(dict.fromkeys(map(_kind_of, values)))


def _kind_of(value: object) -> str:
    """Return the type of a value in the words of the standard."""
    match value:
        case None:
            return "null"
        case bool():
            return "boolean"
        case int() | float():
            return "number"
        case str():
            return "string"
        case list():
            return "array"
        case _:
            return "object"


def _short(value: object) -> str:
    """Return a value as it is shown: texts without quotes, and everything else as JSON."""
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
