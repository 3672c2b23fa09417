"""Options that several commands share."""

from __future__ import annotations

from pathlib import Path

from willow_cart.defaults import QUESTIONS
from willow_cart.options.option import argument, flag, option, option_group
from willow_cart.options.readers import few


@option_group
class SourcesArgument:
    """The sources of offers."""

    sources: tuple[str, ...] = argument(
        (),
        str,
        "the address of a file, a page, a folder, a feed, a sitemap or a bucket; a list of "
        "addresses, a CSV table with a url column, a cart or a saved page; or - for standard "
        "input. Addresses may contain ranges: {2018..2031}, {01..12}, {a,b}",
        metavar="SOURCE",
        nargs="+",
    )


@option_group
class CartArgument:
    """The cart."""

    cart: Path = argument(Path(), Path, "a cart written by load", metavar="CART")


@option_group
class FolderArgument:
    """The folder of the command."""

    folder: Path = argument(
        Path(), Path, "a folder that was hauled into (the current one)", metavar="DIR", nargs="?"
    )


@option_group
class OverwriteOption:
    """Whether a file of another program may be replaced."""

    overwrite: bool = flag("replace an existing file, even if Willow Cart did not write it")


@option_group
class WriteErrandOption:
    """Write an errand instead of running the command."""

    write_errand: Path | None = option(
        None,
        Path,
        "write this command as an errand to a file, to run it again",
        metavar="FILE",
    )


@option_group
class FormOptions:
    """Output formats for other programs."""

    json: bool = flag("print JSON", one_of="form")
    csv: bool = flag("print CSV", one_of="form")


@option_group
class LanesOption:
    """The number of parallel requests."""

    lanes: int = option(
        QUESTIONS,
        few,
        "number of folders that are listed, and of sizes that are requested, at a time "
        "(%(default)s)",
        metavar="N",
    )
