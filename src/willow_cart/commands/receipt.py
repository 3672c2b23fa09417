"""`receipt`: the account of a haul, shown or written in another format."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Self

from willow_cart.commands.result import CommandResult, frame
from willow_cart.commands.runs import my_runs
from willow_cart.errors import BadOption, NoSuchRun
from willow_cart.formats.bagit import write_bag
from willow_cart.formats.manifests import Manifest
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.receipt import (
    Chapter,
    OpenReceipt,
    ReceiptRow,
    RunSummary,
    open_receipt,
    read_runs,
    read_story,
)
from willow_cart.markup_table import html_table
from willow_cart.model import State
from willow_cart.options.option import (
    CSV,
    FOLDER,
    JSON,
    OVERWRITE,
    Given,
    Request,
    flag,
    option,
)
from willow_cart.options.readers import positive
from willow_cart.structs import Value, asdict, astuple, replace
from willow_cart.units import count_of

if TYPE_CHECKING:
    import pandas as pd


class ReceiptRequest(Request):
    """A request for a receipt."""

    command = "receipt"

    run_: int | None = option(
        None,
        positive,
        "show this haul instead of the last one, by number",
        metavar="N",
        one_of="which",
    )
    runs: bool = flag("list the hauls into the folder, one per line", one_of="which")
    of: str | None = option(
        None,
        str,
        "show the history of one file over all hauls: its name, path or address",
        metavar="NAME",
        one_of="which",
    )
    html: Path | None = option(
        None,
        Path,
        "write the receipt as a self-contained web page with figures",
        metavar="FILE",
        one_of="form",
    )
    manifest: str | None = option(
        None,
        str,
        "print the folder's content as a checksum list, a Data Package, RO-Crate metadata, or a "
        "section on data sources for a report; with --run that of one haul",
        choices=("sha256sums", "datapackage", "ro-crate", "markdown"),
        one_of="form",
    )
    bag: Path | None = option(
        None,
        Path,
        "copy the folder's files into a BagIt bag with checksums",
        metavar="NEW_DIR",
        one_of="form",
    )
    folder: Path = FOLDER
    json: bool = JSON
    csv: bool = CSV
    overwrite: bool = OVERWRITE

    @classmethod
    def read(cls, given: Given, settings: Given | None = None, words: tuple[str, ...] = ()) -> Self:
        """Make a request; for the file of an errand the folder is that of its last run.

        Raises:
            NoSuchRun: the errand has not been run.
        """
        made = super().read(given, settings, words)
        if made.folder.suffix == ".toml" and made.folder.is_file():
            return replace(made, folder=_last_destination(made.folder))
        return made


class BagWritten(Value):
    """A bag of everything that was hauled.

    Attributes:
        bag: its folder.
        files: how many are in it.
    """

    bag: Path
    files: int


class PageWritten(Value):
    """A receipt as a web page.

    Attributes:
        page: its file.
    """

    page: Path


class Lines(Value):
    """A manifest, line by line."""

    lines: Iterator[str]


class Story(Value):
    """The history of one file over all hauls."""

    chapters: Sequence[Chapter]


class Summaries(Value):
    """All hauls into a folder."""

    runs: Sequence[RunSummary]


Account = BagWritten | PageWritten | Lines | Story | Summaries | OpenReceipt


@contextmanager
def receipt(request: ReceiptRequest) -> Iterator[Account]:
    """Read the account, or write it in another format; rows are read while the context is open.

    Raises:
        UnreadableLedger: no ledger, or it cannot be read.
        WillowCartError: options do not go together, or the output cannot be written.
    """
    _require_one_haul(request)
    with ExitStack() as stack:
        if request.bag is not None:
            yield _write_bag(request.folder, request.bag)
        elif request.manifest:
            ledger = stack.enter_context(Ledger(ledger_path(request.folder)))
            yield Lines(Manifest(request.manifest).lines(ledger, request.run_))
        elif request.html is not None:
            yield _write_page(request, request.html)
        elif request.runs:
            yield Summaries(read_runs(request.folder))
        elif request.of is not None:
            yield Story(read_story(request.folder, request.of))
        else:
            yield stack.enter_context(open_receipt(request.folder, request.run_))


def _last_destination(errand: Path) -> Path:
    """Return the folder of the last run of an errand.

    Raises:
        NoSuchRun: it has not been run by this user, or not lately.
    """
    for run in reversed(my_runs().all()):
        _, command, *words = [*shlex.split(run.command), "", ""]
        named = (Path(run.folder) / word for word in words if not word.startswith("-"))
        if command == "errand" and any(each.resolve() == errand.resolve() for each in named):
            return Path(run.into)
    raise NoSuchRun(str(errand), "no run of this errand is known", "name the folder it hauls into")


def _require_one_haul(request: ReceiptRequest) -> None:
    """Refuse formats that do not support the request.

    Raises:
        BadOption: they cannot.
    """
    several = "--runs" if request.runs else "--of" if request.of is not None else ""
    form = "--html" if request.html is not None else ""
    for named, given in (("--manifest", request.manifest), ("--bag", request.bag)):
        if given is not None:
            of_all = named == "--bag" or given == Manifest.RO_CRATE
            form, several = named, several or ("--run" if request.run_ and of_all else "")
    if several and form:
        raise BadOption(f"{several} {form}", "do not go together", "leave one of them out")


def _write_bag(folder: Path, bag: Path) -> BagWritten:
    notes = "; ".join(run.note for run in read_runs(folder) if run.note)
    with Ledger(ledger_path(folder)) as ledger:
        return BagWritten(bag, write_bag(folder, ledger.latest_arrivals(), bag, notes))


def _write_page(request: ReceiptRequest, page: Path) -> PageWritten:
    from willow_cart.report import write_page  # its template takes longer than a short receipt

    write_page(request.folder, page, request.run_, overwrite=request.overwrite)
    return PageWritten(page)


class ReceiptResult(CommandResult):
    """What a ledger says about hauls, or the output that was written from it.

    Attributes:
        folder: a folder that was hauled into.
        rows: files of one haul, hauls, or what became of one file in each.
        path: the page or the folder of the bag that was written; None for neither.
        text: a manifest; empty for none.
    """

    folder: Path
    rows: tuple[ReceiptRow | RunSummary | Chapter, ...] = ()
    path: Path | None = None
    text: str = ""

    @classmethod
    def of(cls, folder: Path, account: Account) -> ReceiptResult:
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
            return frame(ReceiptRow.__struct_fields__, map(astuple, files), {"size": "Int64"})
        rows = [*map(_flat, self.rows)]
        return frame([*rows[0]], (tuple(row.values()) for row in rows))

    def __str__(self) -> str:
        """Return the manifest, or the table of rows as text."""
        if self.text or self.path is not None:
            return self.text or self.summary
        columns = [name for name in ("run", *_SHOWN) if name in self.to_frame()]
        table = self.to_frame()[columns].to_string(index=False, na_rep="")
        return f"{table}\n{self.folder}: {self.summary}"

    def __repr__(self) -> str:
        return f"<ReceiptResult of {self.folder}: {self.summary}>"

    @property
    def summary(self) -> str:
        """Return the result in one line."""
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
        return html_table(f"{self.folder}: {self.summary}", shown, rows, len(table))


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
