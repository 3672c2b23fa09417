"""The picker: a list of rows to tick, a filter, and totals."""

from __future__ import annotations

from typing import ClassVar

from rich.segment import Segment
from rich.style import Style
from textual.app import App, ComposeResult
from textual.binding import Binding, BindingType
from textual.geometry import Region, Size
from textual.reactive import reactive
from textual.scroll_view import ScrollView
from textual.strip import Strip
from textual.widgets import Footer, Input, Static

from willow_cart.cart.cart_view import By, CartView
from willow_cart.errors import BadOption
from willow_cart.model import Offer
from willow_cart.units import count_of, format_size, printable
from willow_cart.views.bars import cut_middle
from willow_cart.views.words import in_words

# Widths of all columns but that of the path, which gets what is left.
_NUMBER, _SIZE, _DATE, _KIND = 7, 8, 10, 9
_NARROW_COLUMNS = 60


def tick(tray: CartView) -> bool:
    """Show the picker; return False if the user discards the changes."""
    return bool(TickingApp(tray).run())


class Rows(ScrollView, can_focus=True):
    """The visible rows; only those on the screen are drawn."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up", "move(-1)", show=False),
        Binding("down", "move(1)", show=False),
        Binding("pageup", "page(-1)", show=False),
        Binding("pagedown", "page(1)", show=False),
        Binding("home", "end(-1)", show=False),
        Binding("end", "end(1)", show=False),
    ]
    cursor: reactive[int] = reactive(0)

    def __init__(self, tray: CartView) -> None:
        super().__init__()
        self._tray = tray

    def on_mount(self) -> None:
        """Set the size of the list."""
        self.refilled()

    def refilled(self) -> None:
        """Scroll to the top after the list changed."""
        self.cursor = 0
        self.virtual_size = Size(0, len(self._tray.shown))
        self.scroll_to(0, 0, animate=False)
        self.refresh()

    def action_page(self, by: int) -> None:
        """Move the cursor by a page."""
        self.action_move(by * max(1, self.size.height - 1))

    def action_end(self, by: int) -> None:
        """Move the cursor to the first or last row."""
        self.action_move(by * len(self._tray))

    def action_move(self, by: int) -> None:
        """Move the cursor by this many rows, within the list."""
        self.cursor = max(0, min(len(self._tray.shown) - 1, self.cursor + by))
        self.scroll_to_region(Region(0, self.cursor, 1, 1), animate=False)
        self.refresh()

    @property
    def room(self) -> int:
        """The width of a row without the scroll bar."""
        return self.scrollable_content_region.width or self.size.width

    @property
    def index(self) -> int | None:
        """The row under the cursor; None if the list is empty."""
        shown = self._tray.shown
        return shown[self.cursor] if shown else None

    def render_line(self, y: int) -> Strip:
        """Render one line of the screen."""
        line = y + self.scroll_offset.y
        width = self.room
        if line >= len(self._tray.shown):
            return Strip.blank(width)
        index = self._tray.shown[line]
        text = _line_of(self._tray[index], bool(self._tray.marks[index]), width)
        style = Style(reverse=line == self.cursor, dim=not self._tray.marks[index])
        return Strip([Segment(text, style)], len(text))


def _heads(width: int) -> str:
    """Return the column headings."""
    tail = f"  {'size':>{_SIZE}}"
    if width >= _NARROW_COLUMNS:
        tail += f"  {'modified':<{_DATE}}  {'kind':<{_KIND}}"
    line = f"take{'no.':>{_NUMBER}}  path"
    return f"{line:<{max(0, width - len(tail))}}{tail}"


def _line_of(offer: Offer, ticked: bool, width: int) -> str:
    """Format a row to an exact width, without control characters."""
    about = offer.about is not None
    size = offer.about if offer.size is None else offer.size
    written = "?" if size is None else f"{'~' if about else ''}{format_size(size)}"
    line = f"[{'x' if ticked else ' '}] {offer.number:>{_NUMBER}}  "
    tail = f"  {written:>{_SIZE}}"
    if width >= _NARROW_COLUMNS:
        date = f"{offer.modified:%Y-%m-%d}" if offer.modified else ""
        tail += f"  {date:<{_DATE}}  {offer.kind:<{_KIND}}"
    room = max(1, width - len(line) - len(tail))
    path = cut_middle(printable(offer.path), room)
    return f"{line}{path:<{room}}{tail}"[:width]


class TickingApp(App[bool]):
    """The picker application.

    Args:
        tray: the rows.
    """

    ENABLE_COMMAND_PALETTE = False
    CSS = """
    Screen { layout: vertical; background: $background; }
    #head { height: 1; text-style: bold; }
    #total { height: 1; padding: 0 1; }
    Rows { height: 1fr; scrollbar-size-vertical: 1; }
    #filter { display: none; height: 1; border: none; padding: 0 1; }
    #filter.asked { display: block; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("space", "tick", "tick"),
        Binding("a", "all", "all visible"),
        Binding("k", "alike('kind')", "kind"),
        Binding("f", "alike('folder')", "folder"),
        Binding("s", "alike('source')", "source"),
        Binding("slash", "filter", "filter", key_display="/"),
        Binding("enter", "save", "save"),
        Binding("q", "leave", "quit"),
        Binding("escape", "clear", show=False),
    ]

    def __init__(self, tray: CartView) -> None:
        super().__init__(ansi_color=True)
        self._tray = tray
        self._warned = False

    def compose(self) -> ComposeResult:
        """Create the heading, list, filter, totals and keys."""
        yield Static(id="head", markup=False)
        yield Rows(self._tray)
        yield Input(placeholder="part of a path, or wildcards", id="filter", compact=True)
        yield Static(id="total", markup=False)
        yield Footer(compact=True, show_command_palette=False)

    def on_mount(self) -> None:
        """Show the totals."""
        self.query_one(Rows).focus()
        self._tell()

    def _tell(self, note: str = "") -> None:
        """Show what is taken, and how much of the cart is visible."""
        tray = self._tray
        line = f"{count_of(len(tray), 'row')}; taken: {in_words(tray.taken)}"
        if len(tray.shown) != len(tray):
            line += f"; {len(tray.shown):,} visible, Esc shows all"
        self.query_one("#total", Static).update(note or line)
        self._warned = False
        self.query_one(Rows).refresh()
        self.call_after_refresh(self._head)  # a scroll bar may have come or gone

    def on_resize(self) -> None:
        """Lay out the headings again."""
        self.call_after_refresh(self._head)

    def _head(self) -> None:
        self.query_one("#head", Static).update(_heads(self.query_one(Rows).room))

    def action_tick(self) -> None:
        """Tick or untick the row under the cursor, and move to the next."""
        rows = self.query_one(Rows)
        if (index := rows.index) is not None:
            self._tray.tick([index], mark=not self._tray.marks[index])
            rows.action_move(1)
            self._tell()

    def action_all(self) -> None:
        """Tick all visible rows, or untick them if all are ticked."""
        shown = self._tray.shown
        self._tray.tick(shown, mark=not all(self._tray.marks[index] for index in shown))
        self._tell()

    def action_alike(self, by: str) -> None:
        """Tick or untick the rows that share the kind, folder or source of the current row."""
        index = self.query_one(Rows).index
        if index is not None:
            mark = not self._tray.marks[index]
            self._tray.tick(self._tray.alike(index, By(by)), mark=mark)
            self._tell()

    def action_filter(self) -> None:
        """Open the filter."""
        asked = self.query_one("#filter", Input)
        asked.add_class("asked")
        asked.focus()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Apply the filter."""
        self._show(event.value)

    def action_clear(self) -> None:
        """Remove the filter."""
        self.query_one("#filter", Input).value = ""
        self._show("")

    def _show(self, pattern: str) -> None:
        try:
            self._tray.show(pattern)
        except BadOption as error:
            self._tell(str(error))
            return
        self.query_one("#filter", Input).remove_class("asked")
        rows = self.query_one(Rows)
        rows.refilled()
        rows.focus()
        self._tell()

    def action_save(self) -> None:
        """Save the marks and exit."""
        self.exit(self._tray.is_changed)

    def action_leave(self) -> None:
        """Exit without saving; asks twice if there are changes."""
        if self._tray.is_changed and not self._warned:
            self._tell("not saved; press Enter to save, or q again to discard the changes")
            self._warned = True
            return
        self.exit(False)
