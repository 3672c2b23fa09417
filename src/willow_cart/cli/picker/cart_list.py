"""The rows of the cart."""

from __future__ import annotations

from willow_cart.cart.cart_view import CartView
from willow_cart.cli.picker.cursor_list import CursorList
from willow_cart.cli.render import size_of
from willow_cart.model import Offer
from willow_cart.units import printable
from willow_cart.views.bars import cut_middle

# Widths of all columns but that of the path, which gets what is left.
_NUMBER, _SIZE, _DATE, _KIND = 7, 8, 10, 9
_NARROW_COLUMNS = 60


class CartList(CursorList):
    """The visible rows.

    Args:
        tray: the rows of the cart.
    """

    def __init__(self, tray: CartView) -> None:
        super().__init__()
        self._tray = tray

    def count(self) -> int:
        """Return how many rows are visible."""
        return len(self._tray.shown)

    @property
    def index(self) -> int | None:
        """The row under the cursor; None if the list is empty."""
        shown = self._tray.shown
        return shown[self.cursor] if shown else None

    def line(self, number: int, width: int) -> tuple[str, bool]:
        """Return a row as a line; rows that are out are dim."""
        index = self._tray.shown[number]
        is_taken = bool(self._tray.marks[index])
        return _line_of(self._tray[index], is_taken, width), not is_taken


def heading(width: int) -> str:
    """Return the column headings."""
    tail = f"  {'size':>{_SIZE}}"
    if width >= _NARROW_COLUMNS:
        tail += f"  {'modified':<{_DATE}}  {'kind':<{_KIND}}"
    line = f"take{'no.':>{_NUMBER}}  path"
    return f"{line:<{max(0, width - len(tail))}}{tail}"


def _line_of(offer: Offer, ticked: bool, width: int) -> str:
    """Format a row to an exact width, without control characters."""
    line = f"[{'x' if ticked else ' '}] {offer.number:>{_NUMBER}}  "
    tail = f"  {size_of(offer):>{_SIZE}}"
    if width >= _NARROW_COLUMNS:
        date = f"{offer.modified:%Y-%m-%d}" if offer.modified else ""
        tail += f"  {date:<{_DATE}}  {offer.kind:<{_KIND}}"
    room = max(1, width - len(line) - len(tail))
    path = cut_middle(printable(offer.path), room)
    return f"{line}{path:<{room}}{tail}"[:width]
