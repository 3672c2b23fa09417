"""`combine`: putting tables together."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.looking import ChoosingOptions
from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import whole
from willow_cart.options.shared import OverwriteOption
from willow_cart.requests.request import Request
from willow_cart.tables.outputs import endings_told


@dataclass(frozen=True, kw_only=True)
class CombineRequest(OverwriteOption, ChoosingOptions, Request):
    """What `combine` is asked for."""

    command = "combine"

    places: tuple[Path, ...] = argument(
        (), Path, "a folder, hauled into or not, or a table", metavar="DIR|FILE", nargs="+"
    )
    to: Path | None = option(
        None,
        Path,
        f"what to put them together in; its name ends in {endings_told()}",
        metavar="FILE",
    )
    table: str = option("", str, "the table of a database (the name of its file)", metavar="NAME")
    preview: bool = flag("show what there would be; writes nothing")
    anew: bool = flag("begin with nothing: rows of other files that are there already do not stay")
    strict: bool = flag("stop if a table has not the columns of the others")
    skip_lines: int = option(
        0, whole, "how many lines come before the header of each (%(default)s)", metavar="N"
    )
    columns: str = option("", str, "only these columns, in this order", metavar="NAME,...")
    sheet: str | None = option(
        None, str, "which sheets of workbooks, as a wildcard pattern (the first)", metavar="PATTERN"
    )
    name_parts: str = option(
        "",
        str,
        "makes columns of parts of names: 'level_(?P<year>\\d{4})' makes one called year",
        metavar="REGEX",
    )
    cart: Path | None = option(
        None, Path, "only what the addresses of a cart have brought", metavar="FILE"
    )
