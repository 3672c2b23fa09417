"""The folders of the cart, as a tree that opens and closes."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

from textual.binding import Binding, BindingType

from willow_cart.cart.cart_view import CartView
from willow_cart.cli.picker.cursor_list import CursorList
from willow_cart.model import Sizes
from willow_cart.units import format_size, printable
from willow_cart.views.bars import cut_middle

_COUNT, _SIZE = 13, 8


class Levels(CursorList):
    """The folders, each with what is taken of how many files below it.

    Args:
        tray: the rows of the cart.
        entered: called when the cursor stands on another folder.
    """

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("right", "open", "open"),
        Binding("left", "close", "close"),
    ]

    def __init__(self, tray: CartView, entered: Callable[[int], None]) -> None:
        super().__init__()
        self._tray = tray
        self._entered = entered
        self._open = {tray.root}
        self._sums = tray.tree.sums()
        self._visible = self._walk()

    def count(self) -> int:
        """Return how many folders are visible."""
        return len(self._visible)

    @property
    def folder(self) -> int:
        """The folder under the cursor."""
        return self._visible[self.cursor]

    def moved(self) -> None:
        """Show the rows of the folder."""
        self._entered(self.folder)

    def action_open(self) -> None:
        """Open a folder; if it is open, go to the first one in it."""
        if self._tray.tree.children(self.folder):
            if self.folder in self._open:
                self.action_move(1)
            else:
                self._open.add(self.folder)
                self._refill(self.folder)

    def action_close(self) -> None:
        """Close a folder; if it is closed, go to the one that holds it."""
        folder = self.folder
        if folder in self._open and folder != self._tray.root:
            self._open.discard(folder)
            self._refill(folder)
        elif folder != self._tray.root:
            depth = self._tray.tree.depths[folder]
            above = self.cursor
            while self._tray.tree.depths[self._visible[above]] >= depth:
                above -= 1
            self.action_move(above - self.cursor)

    def _refill(self, folder: int) -> None:
        self._visible = self._walk()
        self.refilled(self._visible.index(folder))

    def _walk(self) -> list[int]:
        """Return the folders that are visible, those below closed ones left out."""
        return list(self._tray.tree.walk(self._tray.root, self._open.__contains__))

    def line(self, number: int, width: int) -> tuple[str, bool]:
        """Return a folder as a line; those of which nothing is taken are dim."""
        tree, folder = self._tray.tree, self._visible[number]
        every, taken = self._sums[folder], self._tray.taken_within[folder]
        mark = " " if not taken.files else "x" if taken.files == every.files else "-"
        sign = " " if not tree.children(folder) else "-" if folder in self._open else "+"
        name = (
            f"{tree.names[folder].removesuffix('/')}/"
            if folder != self._tray.root
            else "all folders"
        )
        depth = tree.depths[folder] - tree.depths[self._tray.root]
        line = f"[{mark}] {'  ' * depth}{sign} "
        tail = f" {f'{taken.files:,}/{every.files:,}':>{_COUNT}} {_written(taken):>{_SIZE}}"
        room = max(1, width - len(line) - len(tail))
        return f"{line}{cut_middle(printable(name), room):<{room}}{tail}"[:width], not taken.files


def _written(sizes: Sizes) -> str:
    if not sizes.bytes and sizes.unknown:
        return "?"
    return f"{'~' if sizes.rough or sizes.unknown else ''}{format_size(sizes.bytes)}"
