"""Options that several commands have."""

from __future__ import annotations

from pathlib import Path

from willow_cart.defaults import QUESTIONS
from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import few

SOURCES = argument(
    (),
    str,
    "the address of a file, a page, a folder, a feed, a sitemap or a bucket; a list of "
    "addresses, a CSV table with a url column, a cart or a saved page; or - for standard "
    "input. Addresses may contain ranges: {2018..2031}, {01..12}, {a,b}",
    metavar="SOURCE",
    nargs="+",
)

CART = argument(Path(), Path, "a cart written by load", metavar="CART")

FOLDER = argument(
    Path(), Path, "a folder that was hauled into (the current one)", metavar="DIR", nargs="?"
)

OVERWRITE = flag("replace an existing file, even if Willow Cart did not write it")

WRITE_ERRAND = option(
    None, Path, "write this command as an errand to a file, to run it again", metavar="FILE"
)

JSON = flag("print JSON", one_of="form")
CSV = flag("print CSV", one_of="form")

LANES = option(
    QUESTIONS,
    few,
    "number of folders that are listed, and of sizes that are requested, at a time (%(default)s)",
    metavar="N",
)
