"""Read the file of an errand."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.errors import BadOption
from willow_cart.toml_file import Table, TomlFile

TEXTS = ("into", "cart", "note", "gone", "on_failure", "mail_to", "mail_when")
"""What an errand says before its first table."""

GONE = ("keep", "aside")
"""What to do with files that their places offer no more."""

NUMBERS = ("expect_new",)
"""Likewise, as a number."""

MAIL_WHEN = ("failure", "always")
"""When a mail is sent."""

_TABLES = ("values", "sign_in", "connecting", "haul", "filing")
_LISTS = ("source", "arrival")


@dataclass(frozen=True, slots=True)
class Document:
    """The content of an errand's file.

    Attributes:
        path: of the file.
        top: what stands before the first table: `into`, and perhaps `cart`, `note`, `gone`,
            `expect_new`, `on_failure`, `mail_to` and `mail_when`.
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

    @property
    def expect_new(self) -> int:
        """How many new files a run must bring."""
        number = self.top.keys.get("expect_new", 0)
        return number if isinstance(number, int) else 0


def read_document(path: Path) -> Document:
    """Read an errand.

    Raises:
        BadOption: it cannot be read, or has something in it that means nothing.
    """
    file = TomlFile(path, "name an errand")
    top = file.top("the errand")
    content = file.content
    Table(top.title, top.file, content, top.lines).require_known(
        (*TEXTS, *NUMBERS, *_TABLES, *_LISTS)
    )
    for key in TEXTS:
        if not isinstance(content.get(key, ""), str):
            raise BadOption(top.place(key), "not text", "write it in quotes")
        if not str(content.get(key, "")).isprintable():
            raise BadOption(top.place(key), "has more than one line", "write one line")
    for key, values in (("gone", GONE), ("mail_when", MAIL_WHEN)):
        if content.get(key, values[0]) not in values:
            raise BadOption(top.place(key), "not a valid value", f"write {' or '.join(values)}")
    for key in NUMBERS:
        number = content.get(key, 0)
        if type(number) is not int or number < 0:
            raise BadOption(top.place(key), "not a whole number from 0 up", "write 1, for example")
    if not content.get("into"):
        raise BadOption(str(path), "has no destination", 'write into = "FOLDER" at its top')
    tables = {name: file.table(name) for name in _TABLES}
    lists = {name: tuple(file.tables(name)) for name in _LISTS}
    if not lists["source"]:
        raise BadOption(str(path), "has no source", "write one as [[source]] with at = ...")
    return Document(path, top, **tables, sources=lists["source"], arrivals=lists["arrival"])
