"""`receipt`: the account of a haul, shown or written in another format."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

from willow_cart.commands.request import Request
from willow_cart.errors import BadOption
from willow_cart.ledger.bags import write_bag
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.manifests import Manifest
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.receipt import (
    Chapter,
    OpenReceipt,
    RunSummary,
    open_receipt,
    read_runs,
    read_story,
)
from willow_cart.options.option import flag, option
from willow_cart.options.readers import positive
from willow_cart.options.shared import CSV, FOLDER, JSON, OVERWRITE
from willow_cart.structs import Value


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


Result = BagWritten | PageWritten | Lines | Story | Summaries | OpenReceipt


@contextmanager
def receipt(request: ReceiptRequest) -> Iterator[Result]:
    """Read or write what is requested; rows are read while the context is open.

    Raises:
        UnreadableLedger: no ledger, or it cannot be read.
        WillowCartError: options do not go together, or what is requested cannot be written.
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


def _require_one_haul(request: ReceiptRequest) -> None:
    """Refuse formats that cannot show what is requested.

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
