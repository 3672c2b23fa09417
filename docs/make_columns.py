"""Write the columns of a cart into `docs/formats.md`, from their definitions: `make docs`."""

from __future__ import annotations

import re
from pathlib import Path

from willow_cart.cart.columns import CART_COLUMNS

PAGE = Path(__file__).parent / "formats.md"

_GONE = "the day from which a row was no longer offered; only such rows have it"
_PLACE = re.compile(r"(<!-- columns: [^>]*-->\n).*?(<!-- end of columns -->)", re.DOTALL)


def render(page: str) -> str:
    """Return the page with the table in its place."""
    rows = [(column.name, column.about) for column in CART_COLUMNS]
    lines = [f"| `{name}` | {about} |\n" for name, about in [*rows, ("gone", _GONE)]]
    table = "".join(["| column | is |\n", "| --- | --- |\n", *lines])
    return _PLACE.sub(lambda place: f"{place[1]}{table}{place[2]}", page)


if __name__ == "__main__":
    PAGE.write_text(render(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
