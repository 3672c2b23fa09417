"""Read TOML 1.0 files, with the line number of each key, and write lines of them."""

from __future__ import annotations

import re
import tomllib
from collections import Counter
from collections.abc import Collection, Iterator, Mapping
from pathlib import Path

from willow_cart.errors import BadOption, plainly
from willow_cart.replacing import open_named
from willow_cart.structs import Value, field
from willow_cart.synonyms import key_for
from willow_cart.units import printable

_HEAD = re.compile(r"\s*\[(\[)?\s*([\w.-]+)\s*\]")
_KEY = re.compile(r"\s*[\"']?([\w-]+)[\"']?\s*=")

# No person writes a longer one.
_MAX_FILE_BYTES = 16 << 20


def toml_line(key: str, value: object) -> str:
    """Return the line of a key.

    Args:
        key: of letters, digits and underscores.
        value: a text, a number, a truth value, or a sequence of such.

    Raises:
        BadOption: the value has bytes that no TOML file can hold.
    """
    from tomlkit import item  # only commands that write an errand need it

    written = item([*value] if isinstance(value, list | tuple) else value).as_string()
    if any("\ud800" <= character <= "\udfff" for character in written):
        raise BadOption(
            f"{key} {printable(written)}", "is not UTF-8, so it cannot be written", "rename it"
        )
    # TOML allows them as they are, a terminal that shows the file would interpret them.
    return f"{key} = " + "".join(
        each if each.isprintable() else f"\\U{ord(each):08x}" for each in written
    )


def toml_comment(text: str) -> str:
    """Return a comment of one line, whatever the text holds."""
    return f"# {printable(text)}"


class Table(Value):
    """A table of a file, or the keywords of a function.

    Attributes:
        title: how it is written there: `[[source]]`.
        file: the file; for keywords the function.
        keys: its keys and values.
        lines: where in the file.
        advice: what to do about an unknown key.
    """

    title: str
    file: str
    keys: Mapping[str, object] = field(default_factory=dict)
    lines: Mapping[str, int] = field(default_factory=dict)
    advice: str = "see the guide on errands"

    def place(self, key: str = "") -> str:
        """Return the position of a key, for messages."""
        line = self.lines.get(key or "", 0)
        return ", ".join(filter(None, (self.file, line and f"line {line}", key or self.title)))  # type: ignore[arg-type]

    def require_known(self, known: Collection[str]) -> None:
        """Refuse unknown keys.

        Raises:
            BadOption: there is one.
        """
        for key in self.keys:
            if key not in known:
                near = key_for(key, known)
                meant = f"did you mean {near}?" if near else self.advice
                where = "" if self.title == self.file else f" in {self.title}"
                raise BadOption(self.place(key), f"unknown key{where}", meant)


class TomlFile:
    """A TOML file, read as a whole.

    Args:
        advice: what to do if it cannot be read.

    Attributes:
        content: its content.

    Raises:
        BadOption: it cannot be read.
    """

    def __init__(self, path: Path, advice: str) -> None:
        self._name = str(path)
        try:
            with open_named(path) as file:
                content = file.read(_MAX_FILE_BYTES)
            text = content.decode("utf-8")
            self.content: Mapping[str, object] = tomllib.loads(text)
        except OSError as error:
            raise BadOption(str(path), f"cannot be read: {plainly(error)}", advice) from None
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            raise BadOption(*_place_of_mistake(path, content, error)) from None
        self._lines = _lines_of(text)

    def top(self, title: str) -> Table:
        """Return the top-level table, with the lines of the other tables."""
        lines = {name: at.get("", 0) for (name, _), at in self._lines.items() if name}
        keys = {
            key: value for key, value in self.content.items() if not isinstance(value, dict | list)
        }
        return Table(title, self._name, keys, self._lines[("", 0)] | lines)

    def table(self, name: str) -> Table:
        """Return a table; empty if it does not exist.

        Raises:
            BadOption: what has that name is something else.
        """
        keys = self.content.get(name, {})
        if not isinstance(keys, dict):
            raise BadOption(self._place_of(name), "not a table", f"write [{name}]")
        return Table(f"[{name}]", self._name, keys, self._lines.get((name, 0), {}))

    def tables(self, name: str) -> Iterator[Table]:
        """Yield the tables of an array.

        Raises:
            BadOption: what has that name is something else.
        """
        found = self.content.get(name, [])
        if not isinstance(found, list) or not all(isinstance(each, dict) for each in found):
            raise BadOption(self._place_of(name), "not a list of tables", f"write [[{name}]]")
        for place, keys in enumerate(found):
            yield Table(f"[[{name}]]", self._name, keys, self._lines.get((name, place), {}))

    def _place_of(self, name: str) -> str:
        line = self._lines.get((name, 0), {}).get("") or self._lines["", 0].get(name)
        return ", ".join(filter(None, (self._name, f"line {line}" if line else "", name)))


_POSITION = re.compile(r" \(at (?:line (\d+), column \d+|end of document)\)$")


def _place_of_mistake(path: Path, content: bytes, error: Exception) -> tuple[str, str, str]:
    """Return the file and line of what is not TOML, the reason, and what to do."""
    found = _POSITION.search(str(error))
    if found is None:
        return str(path), f"cannot be read: {error}", "save it as TOML in UTF-8"
    line = found[1] or 1 + content.rstrip(b"\n").count(b"\n")  # the last one
    reason = str(error)[: found.start()]
    return (
        f"{path}, line {line}",
        f"not valid TOML: {reason.lower()}",
        "complete or correct that line",
    )


def _lines_of(text: str) -> dict[tuple[str, int], dict[str, int]]:
    """Return the line of each key by table and index; the table itself has an empty key."""
    lines: dict[tuple[str, int], dict[str, int]] = {("", 0): {}}
    counts: Counter[str] = Counter()
    here = lines["", 0]
    for number, line in enumerate(text.split("\n"), 1):
        if head := _HEAD.match(line):
            name = head[2]
            here = lines.setdefault((name, counts[name]), {"": number})
            counts[name] += bool(head[1])
        elif key := _KEY.match(line):
            here.setdefault(key[1], number)
    return lines
