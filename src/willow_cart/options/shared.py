"""Options that several commands have."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.option import argument, flag, option, option_group
from willow_cart.options.readers import few


@option_group
class SourcesArgument:
    """The sources of offers."""

    sources: tuple[str, ...] = argument(
        (),
        str,
        "an http:// or https:// address of a file, a page, a folder, a feed or a sitemap; a "
        "list of addresses, a CSV table with a url column, a saved page; or - for standard "
        "input; addresses may hold ranges: {2018..2031}, {01..12}, {a,b}",
        metavar="SOURCE",
        nargs="+",
    )


@option_group
class CartArgument:
    """The cart."""

    cart: Path = argument(Path(), Path, "a cart that load has made", metavar="CART")


@option_group
class FolderArgument:
    """The folder that a command is about."""

    folder: Path = argument(
        Path(), Path, "a folder that was hauled into (the current one)", metavar="DIR", nargs="?"
    )


@option_group
class OverwriteOption:
    """What allows a file to be replaced that another program has written."""

    overwrite: bool = flag("replace a file that is there, also if willow-cart has not written it")


@option_group
class WriteErrandOption:
    """What has an errand written instead."""

    write_errand: Path | None = option(
        None,
        Path,
        "write what is typed here into a file as an errand, to be run again from there",
        metavar="FILE",
    )


@option_group
class FormOptions:
    """The forms for other programs."""

    json: bool = flag("write JSON for other programs", one_of="form")
    csv: bool = flag("write CSV for spreadsheets", one_of="form")


@option_group
class LanesOption:
    """How many places are looked at together."""

    lanes: int = option(
        4, few, "how many folders are read and sizes asked for at a time (%(default)s)", metavar="N"
    )
