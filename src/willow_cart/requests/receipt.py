"""The request of `receipt`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.readers import positive
from willow_cart.options.shared import CSV, FOLDER, JSON, OVERWRITE
from willow_cart.requests.request import Request


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
