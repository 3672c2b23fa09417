"""The results of the functions for local files."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.auditing import Audited, Finding
from willow_cart.cart.cart import Cart
from willow_cart.cart.weighing import Weight
from willow_cart.commands.audit import code_of
from willow_cart.commands.receipt import BagWritten, Lines, PageWritten, Result, Story, Summaries
from willow_cart.exits import Exit
from willow_cart.hauling.room import Prospect
from willow_cart.hauling.summary import HaulSummary
from willow_cart.ledger.entries import Move
from willow_cart.ledger.receipt import Chapter, ReceiptRow, RunSummary
from willow_cart.markup_table import html_table
from willow_cart.model import Sizes, State
from willow_cart.packing import Packed
from willow_cart.scripting.result_frames import frame, frame_of_receipt, paths_of_members
from willow_cart.structs import asdict
from willow_cart.tables import Combined
from willow_cart.tables.combined_frame import read_frame, typed
from willow_cart.units import count_of, format_size
from willow_cart.views.words import combined_line, in_words, packed_line, unpacked_line

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class PickResult:
    """The result of picking.

    Attributes:
        file: of the cart.
        changed: the sizes of the rows that were taken out or put back; None after an undo.
        taken: the sizes of the rows that are taken now.
        complete: whether every row could be read, and every size requested.
        notes: the messages.
    """

    file: Path
    changed: Sizes | None
    taken: Sizes
    complete: bool = True
    notes: tuple[str, ...] = ()

    @cached_property
    def cart(self) -> Cart:
        """The cart, read from its file."""
        return Cart.load(self.file)

    def __repr__(self) -> str:
        changed = "" if self.changed is None else f"changed {in_words(self.changed)}; "
        return f"<PickResult of {self.file}: {changed}taken now {in_words(self.taken)}>"


@dataclass(frozen=True)
class WeighResult:
    """The counts and sizes of a cart.

    Attributes:
        file: of the cart.
        weight: by kind, folder, source and month.
        ahead: what is to come, and whether it fits.
        parts: the files of the carts that it was split into.
        complete: whether every row could be read, and every size requested.
        notes: the messages.
    """

    file: Path
    weight: Weight
    ahead: Prospect
    parts: tuple[Path, ...] = ()
    complete: bool = True
    notes: tuple[str, ...] = ()

    def to_frame(self) -> pd.DataFrame:
        """Return a row per group: by what, its name, files, bytes, number of unknown sizes."""
        return frame(("by", "name", "files", "bytes", "unknown"), self._rows())

    def _rows(self) -> Iterator[tuple[str, str, int, int, int]]:
        weight = self.weight
        groups = {
            "kind": weight.kinds, "folder": weight.folders,
            "source": weight.sources, "month": weight.months,
        }  # fmt: skip
        for by, named in groups.items():
            for name, sizes in sorted(named.items()):
                yield by, name, sizes.files, sizes.bytes, sizes.unknown

    def __repr__(self) -> str:
        return f"<WeighResult: {self._brief()}>"

    def _brief(self) -> str:
        return f"{self.file}: {in_words(self.weight.all)}"

    def _repr_html_(self) -> str:
        rows = [
            (by, name, f"{files:,}", format_size(size) if files > unknown else "")
            for by, name, files, size, unknown in self._rows()
        ]
        return html_table(self._brief(), ("by", "name", "files", "size"), rows, len(rows))


@dataclass(frozen=True)
class UnpackResult:
    """The result of unpacking.

    Attributes:
        account: counts, and the exit code that follows from them.
        notes: the messages.
    """

    account: HaulSummary
    notes: tuple[str, ...] = ()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.account.exit_code

    @cached_property
    def paths(self) -> tuple[Path, ...]:
        """Return the paths of the files from the archives, unpacked now or earlier."""
        return paths_of_members(self.account.archives)

    def __repr__(self) -> str:
        return f"<UnpackResult: {unpacked_line(self.account)}>"


@dataclass(frozen=True)
class CombineResult:
    """The result of combining tables.

    Attributes:
        to: the file that they were put in; None for a preview.
        table: the name of the table in a database; empty for the name of its file.
        combined: counts, and what the columns hold.
        notes: the messages.
    """

    to: Path | None
    table: str
    combined: Combined
    notes: tuple[str, ...] = ()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.combined.exit_code

    def to_frame(self) -> pd.DataFrame:
        """Return the written table; for a preview its first rows."""
        types = {name: told.type for name, told in self.combined.columns.items()}
        if self.to is None:
            return typed(frame([*types], self.combined.first), types)
        return read_frame(self.to, self.table, types)

    def __repr__(self) -> str:
        return f"<CombineResult: {self._brief()}>"

    def _brief(self) -> str:
        return combined_line(self.combined, self.to)

    def _repr_html_(self) -> str:
        rows = [["" if cell is None else str(cell) for cell in row] for row in self.combined.first]
        return html_table(self._brief(), [*self.combined.columns], rows, self.combined.rows)


@dataclass(frozen=True)
class PackResult:
    """The result of packing.

    Attributes:
        path: the archive.
        packed: counts, and the checksum of the archive.
        notes: the messages.
    """

    path: Path
    packed: Packed
    notes: tuple[str, ...] = ()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.packed.exit_code

    def __repr__(self) -> str:
        return f"<PackResult: {packed_line(self.packed, self.path)}>"


@dataclass(frozen=True)
class Audit:
    """The result of an audit.

    Attributes:
        folder: that was audited.
        found: every file, the worst first.
        repaired: the account of what was hauled again; None if nothing was.
        notes: the messages.
    """

    folder: Path
    found: tuple[Audited, ...]
    repaired: HaulSummary | None = None
    notes: tuple[str, ...] = ()

    @property
    def counts(self) -> Counter[Finding]:
        """Return the number of files by finding."""
        return Counter(each.finding for each in self.found)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return code_of(self.counts) if self.repaired is None else self.repaired.exit_code

    def to_frame(self) -> pd.DataFrame:
        """Return a row per file: path, finding, why, size in bytes, url."""
        rows = ([each.path, str(each.finding), each.why, each.size, each.url]
                for each in self.found)  # fmt: skip
        return frame(("path", "finding", "why", "size", "url"), rows)

    def __repr__(self) -> str:
        return f"<Audit of {self.folder}: {self._brief()}>"

    def _brief(self) -> str:
        return ", ".join(f"{count:,} {finding}" for finding, count in self.counts.items())

    def _repr_html_(self) -> str:
        rows = ((str(each.finding), each.path, each.why) for each in self.found)
        return html_table(self._brief(), ("state", "path", "in what"), rows, len(self.found))


@dataclass(frozen=True)
class ReceiptResult:
    """What a ledger says about hauls, or the output that was written from it.

    Attributes:
        folder: that was hauled into.
        rows: files of one haul, hauls, or what became of one file in each.
        path: the page or the folder of the bag that was written; None for neither.
        text: a manifest; empty for none.
    """

    folder: Path
    rows: tuple[ReceiptRow | RunSummary | Chapter, ...] = ()
    path: Path | None = None
    text: str = ""

    @classmethod
    def of(cls, folder: Path, account: Result) -> ReceiptResult:
        """Read the account while the ledger is open."""
        match account:
            case BagWritten():
                return cls(folder, path=account.bag)
            case PageWritten():
                return cls(folder, path=account.page)
            case Lines():
                return cls(folder, text="".join(f"{line}\n" for line in account.lines))
            case Summaries():
                return cls(folder, tuple(account.runs))
            case Story():
                return cls(folder, tuple(account.chapters))
        return cls(folder, tuple(account.rows()))

    def to_frame(self) -> pd.DataFrame:
        """Return a row per file, haul or version, with the columns of `receipt --csv`."""
        files = [each for each in self.rows if isinstance(each, ReceiptRow)]
        if files or not self.rows:
            return frame_of_receipt(files)
        rows = [*map(_flat, self.rows)]
        return frame([*rows[0]], (tuple(row.values()) for row in rows))

    def __repr__(self) -> str:
        return f"<ReceiptResult of {self.folder}: {self._brief()}>"

    def _brief(self) -> str:
        if self.path is not None:
            return f"written to {self.path}"
        if self.text:
            return count_of(self.text.count("\n"), "line")
        return count_of(len(self.rows), "row")

    def _repr_html_(self) -> str:
        table = self.to_frame()
        shown = [name for name in ("run", *_SHOWN) if name in table]
        cells = table[shown].head(10).astype(object).where(table[shown].notna(), "")
        rows = (list(map(str, row)) for row in cells.itertuples(index=False))
        return html_table(f"{self.folder}: {self._brief()}", shown, rows, len(table))


# The columns of a receipt that a notebook shows; frames have them all.
_SHOWN = ("started", "state", "path", "size", "verdict", "reason", "command", "exit_code")


def _flat(row: ReceiptRow | RunSummary | Chapter) -> Mapping[str, object]:
    """Return a flat row, in which the counts of a haul are columns."""
    facts = asdict(row)
    facts |= facts.pop("row", {})
    if isinstance(row, RunSummary):
        del facts["counts"]
        facts |= {str(state): row.counts.get(state, 0) for state in State}
    return facts


@dataclass(frozen=True)
class RefileResult:
    """The result of refiling.

    Attributes:
        folder: that was hauled into.
        moves: what was moved, or would be.
        staying: paths of files that are missing or changed, and so were left alone.
        preview: whether nothing was moved.
    """

    folder: Path
    moves: tuple[Move, ...]
    staying: tuple[str, ...] = ()
    preview: bool = False

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.staying else Exit.GOOD

    def to_frame(self) -> pd.DataFrame:
        """Return a row per move: the old path, the new one, and the url."""
        return frame(("old", "new", "url"), self._rows())

    def _rows(self) -> Iterator[tuple[str, str, str]]:
        return ((move.old, move.new, move.address) for move in self.moves)

    def __repr__(self) -> str:
        return f"<RefileResult of {self.folder}: {self._brief()}>"

    def _brief(self) -> str:
        staying = f", {len(self.staying):,} missing or changed" if self.staying else ""
        verb = "to move" if self.preview else "moved"
        return f"{count_of(len(self.moves), 'file')} {verb}{staying}"

    def _repr_html_(self) -> str:
        return html_table(self._brief(), ("old", "new", "url"), self._rows(), len(self.moves))
