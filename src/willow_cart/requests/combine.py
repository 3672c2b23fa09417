"""The request of `combine`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import whole
from willow_cart.options.shared import OVERWRITE
from willow_cart.requests.request import Request
from willow_cart.tables.outputs import endings_told


class CombineRequest(Request):
    """A request to combine tables."""

    command = "combine"

    places: tuple[Path, ...] = argument(
        (), Path, "a folder, whether hauled into or not, or a table", metavar="DIR|FILE", nargs="+"
    )
    to: Path | None = option(
        None,
        Path,
        f"the file to write; its name ends in {endings_told()}",
        metavar="FILE",
    )
    table: str = option("", str, "the table in a database (the name of its file)", metavar="NAME")
    preview: bool = flag("show the result; writes nothing")
    anew: bool = flag("start over: do not keep existing rows of other files")
    strict: bool = flag("stop if the columns of the tables differ, or a cell has another type")
    encoding: str = option(
        "", str, "the encoding of the tables, such as cp1252 or utf-16 (detected)", metavar="NAME"
    )
    mixed: bool = flag("take tables that have few columns of the others")
    day_first: bool = flag("read dates such as 01.02.2031 and 01/02/2031 as 1 February")
    thousands: str = option(
        "",
        str,
        "the mark between thousands in numbers",
        choices=("comma", "point", "space", "apostrophe"),
    )
    skip_lines: int = option(
        0, whole, "lines before the header of each table (%(default)s)", metavar="N"
    )
    columns: str = option("", str, "only these columns, in this order", metavar="NAME,...")
    sheet: str | None = option(
        None,
        str,
        "sheets of workbooks to use, as a wildcard pattern (the first sheet)",
        metavar="PATTERN",
    )
    name_parts: str = option(
        "",
        str,
        "makes columns from parts of names: 'level_(?P<year>\\d{4})' adds a column year",
        metavar="REGEX",
    )
    cart: Path | None = option(
        None, Path, "use only files that came from the addresses in a cart", metavar="FILE"
    )
    overwrite: bool = OVERWRITE
    choosing: Choosing = Choosing()
