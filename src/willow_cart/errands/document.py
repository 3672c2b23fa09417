"""Reading an errand's file (TOML 1.0), with the lines in which everything stands."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections import Counter
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from willow_cart.errors import BadOption, plainly
from willow_cart.named_files import open_named

_HEAD = re.compile(r"\s*\[(\[)?\s*([\w.-]+)\s*\]")
_KEY = re.compile(r"\s*[\"']?([\w-]+)[\"']?\s*=")

TEXTS = ("into", "cart", "note", "gone", "on_failure", "mail_to")
"""What an errand says before its first table."""

GONE = ("keep", "aside")
"""What becomes of files that their places offer no more."""

_TABLES = ("values", "sign_in", "connecting", "haul", "filing")
_LISTS = ("source", "arrival")


# No person writes a longer one.
_LARGEST = 16 << 20


@dataclass(frozen=True, slots=True)
class Table:
    """A table of an errand.

    Attributes:
        title: how it is written there: `[[source]]`.
        file: the errand's file.
        keys: what it says.
        lines: where in the file.
    """

    title: str
    file: str
    keys: Mapping[str, object] = field(default_factory=dict)
    lines: Mapping[str, int] = field(default_factory=dict)

    def place(self, key: str = "") -> str:
        """Where something stands, for messages."""
        line = self.lines.get(key or "", 0)
        return ", ".join(filter(None, (self.file, line and f"line {line}", key or self.title)))  # type: ignore[arg-type]

    def require_known(self, known: Collection[str]) -> None:
        """Refuse keys that mean nothing here.

        Raises:
            BadOption: there is one.
        """
        for key in self.keys:
            if key not in known:
                near = difflib.get_close_matches(key, known, 1)
                meant = f"did you mean {near[0]} ?" if near else "see the guide on errands"
                raise BadOption(self.place(key), f"is not known in {self.title}", meant)


@dataclass(frozen=True, slots=True)
class Document:
    """An errand, as it is written.

    Attributes:
        path: of the file.
        top: what stands before the first table: `into`, and perhaps `cart`, `note`, `gone`,
            `on_failure` and `mail_to`.
        values: what changes from run to run.
        sign_in: sign-ins by their names, as in the config file.
        connecting, haul, filing: options for all sources.
        sources: where the files come from.
        arrivals: what is done with them, in order.
    """

    path: Path
    top: Table
    values: Table
    sign_in: Table
    connecting: Table
    haul: Table
    filing: Table
    sources: tuple[Table, ...]
    arrivals: tuple[Table, ...]


def read_document(path: Path) -> Document:
    """Read an errand.

    Raises:
        BadOption: it cannot be read, or has something in it that means nothing.
    """
    text, content = read_toml(path, "name an errand")
    lines = _lines_of(text)
    top = Table(
        "the errand",
        str(path),
        {key: value for key, value in content.items() if not isinstance(value, dict | list)},
        lines.get(("", 0), {}) | {name: at.get("", 0) for (name, _), at in lines.items() if name},
    )
    Table(top.title, top.file, content, top.lines).require_known((*TEXTS, *_TABLES, *_LISTS))
    for key in TEXTS:
        if not isinstance(content.get(key, ""), str):
            raise BadOption(top.place(key), "is no text", "write it in quotes")
        if not str(content.get(key, "")).isprintable():
            raise BadOption(top.place(key), "is more than a line", "write one line")
    if content.get("gone", "keep") not in GONE:
        raise BadOption(top.place("gone"), "is no way to treat files", f"write {' or '.join(GONE)}")
    if not content.get("into"):
        raise BadOption(str(path), "does not say where to", 'write into = "FOLDER" at its top')
    tables = {name: _table(content, name, top, lines) for name in _TABLES}
    lists = {name: tuple(_tables(content, name, top, lines)) for name in _LISTS}
    if not lists["source"]:
        raise BadOption(str(path), "has no source", "write one as [[source]] with at = ...")
    return Document(path, top, **tables, sources=lists["source"], arrivals=lists["arrival"])


def read_toml(path: Path, advice: str) -> tuple[str, dict[str, object]]:
    """A TOML file, as it is written and what it says.

    Args:
        path: of the file.
        advice: what to do if there is none that can be read.

    Raises:
        BadOption: it cannot be read.
    """
    try:
        with open_named(path) as file:
            text = file.read(_LARGEST).decode("utf-8")
        return text, tomllib.loads(text)
    except OSError as error:
        raise BadOption(str(path), f"cannot be read: {plainly(error)}", advice) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise BadOption(str(path), f"cannot be read: {error}", "see to that place") from None


def table_at(content: Mapping[str, object], name: str, file: str, text: str) -> Table:
    """A table of any TOML file, with the lines of its keys; empty where there is none.

    Raises:
        BadOption: it is no table.
    """
    return _table(content, name, Table("the file", file), _lines_of(text))


_Lines = Mapping[tuple[str, int], Mapping[str, int]]


def _table(content: Mapping[str, object], name: str, top: Table, lines: _Lines) -> Table:
    keys = content.get(name, {})
    if not isinstance(keys, dict):
        raise BadOption(top.place(name), "is no table", f"write [{name}]")
    return Table(f"[{name}]", top.file, keys, lines.get((name, 0), {}))


def _tables(content: Mapping[str, object], name: str, top: Table, lines: _Lines) -> Iterator[Table]:
    found = content.get(name, [])
    if not isinstance(found, list) or not all(isinstance(each, dict) for each in found):
        raise BadOption(top.place(name), "is no list of tables", f"write [[{name}]]")
    for place, keys in enumerate(found):
        yield Table(f"[[{name}]]", top.file, keys, lines.get((name, place), {}))


def _lines_of(text: str) -> dict[tuple[str, int], dict[str, int]]:
    """The line of each key, by its table and the number of that; of a table under no key."""
    lines: dict[tuple[str, int], dict[str, int]] = {("", 0): {}}
    counts: Counter[str] = Counter()
    here = lines["", 0]
    for number, line in enumerate(text.splitlines(), 1):
        if head := _HEAD.match(line):
            name = head[2]
            here = lines.setdefault((name, counts[name]), {"": number})
            counts[name] += bool(head[1])
        elif key := _KEY.match(line):
            here.setdefault(key[1], number)
    return lines
