"""Results of inspecting a file, and the sample that they come from."""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from typing import BinaryIO

from willow_cart.structs import Value, field

Fact = str | int | float
"""A value that describes a file."""


WHOLE_NUMBERS = ("integer", "int", "uint", "bytes")
REAL_NUMBERS = ("real", "float", "double", "decimal", "number")
"""How the names of the types of numbers begin, those of Arrow included."""


class Unreadable(Exception):
    """A file that is not what it begins like; the text is the reason, as a clause."""


class PeekedColumn(Value):
    """A column of a table.

    Attributes:
        name: its heading.
        type: of its values, in words.
    """

    name: str
    type: str = ""


class Content(Value):
    """The content of a file.

    Attributes:
        form: its form: `table`, `JSON`, `zip archive`.
        facts: facts about the whole file by name, in the order of their printing.
        columns: of the rows.
        rows: the first ones, with a value for each column.
        row_kind: what a row stands for: `row`, `record`, `member`; empty without rows.
        notes: what could not be determined, and why.
    """

    form: str
    facts: dict[str, Fact] = field(default_factory=dict)
    columns: Sequence[PeekedColumn] = ()
    rows: Sequence[Sequence[str]] = ()
    row_kind: str = ""
    notes: Sequence[str] = ()


class Sample(Value):
    """A file of which the beginning is here.

    Attributes:
        beginning: its first bytes.
        length: of the whole file; None for unknown.
        skip_lines: the number of lines before the header of a table.
        open: opens the whole file to be read here and there; None where that is impossible.
    """

    name: str
    beginning: bytes
    length: int | None
    skip_lines: int = 0
    open: Callable[[], BinaryIO] | None = None

    @property
    def is_whole(self) -> bool:
        """Whether the beginning is all of the file."""
        return self.length is not None and self.length <= len(self.beginning)

    def file(self) -> BinaryIO:
        """Return the file, to be read here and there.

        Raises:
            Unreadable: only its beginning can be read.
        """
        if self.is_whole:
            return io.BytesIO(self.beginning)
        if self.open is None:
            raise Unreadable("only its beginning can be read")
        return self.open()


Look = Callable[[Sample, int], Content]
"""Inspects a sample and shows this many rows."""
