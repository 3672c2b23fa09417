"""`receipt`: the account of a haul."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.readers import positive
from willow_cart.options.shared import FolderArgument, FormOptions, OverwriteOption
from willow_cart.requests.request import Request


@dataclass(frozen=True, kw_only=True)
class ReceiptRequest(FolderArgument, FormOptions, OverwriteOption, Request):
    """What `receipt` is asked for."""

    command = "receipt"

    run_: int | None = option(
        None, positive, "the haul with this number, not the last one", metavar="N", one_of="which"
    )
    runs: bool = flag("list the hauls into the folder, one in a line", one_of="which")
    of: str | None = option(
        None,
        str,
        "what became of one file in every haul: give its name, path or address",
        metavar="NAME",
        one_of="which",
    )
    html: Path | None = option(
        None,
        Path,
        "write the receipt as a page with figures, which needs nothing but itself",
        metavar="FILE",
        one_of="form",
    )
    manifest: str | None = option(
        None,
        str,
        "what lies in the folder: a checksum list, a Data Package, an RO-Crate's metadata, or a "
        "paragraph on data sources for a report",
        choices=("sha256sums", "datapackage", "ro-crate", "markdown"),
        one_of="form",
    )
    bag: Path | None = option(
        None,
        Path,
        "write the folder's files as a BagIt bag, with their checksums, to hand them on",
        metavar="NEW_DIR",
        one_of="form",
    )
