"""The application: folders, rows, a filter, totals, and a look into the file of a row."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import ClassVar

from rich.segment import Segment
from rich.style import Style
from textual import work
from textual.app import App, ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, VerticalScroll
from textual.geometry import Region, Size
from textual.reactive import reactive
from textual.screen import ModalScreen
from textual.scroll_view import ScrollView
from textual.strip import Strip
from textual.widgets import Footer, Input, Static

from willow_cart.cart.cart_view import By, CartView
from willow_cart.cli.render import size_of
from willow_cart.cli.screen import aligned
from willow_cart.commands.peek import facts_line, fetched_line, headline, peek_offer, shown_table
from willow_cart.commands.pick import PickRequest
from willow_cart.errors import BadOption, WillowCartError
from willow_cart.model import Offer, Sizes
from willow_cart.units import count_of, format_size, printable
from willow_cart.views.bars import cut_middle


class CursorList(ScrollView, can_focus=True):
    """A list that is moved through by keys; subclasses know the lines."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up", "move(-1)", show=False),
        Binding("down", "move(1)", show=False),
        Binding("pageup", "page(-1)", show=False),
        Binding("pagedown", "page(1)", show=False),
        Binding("home", "end(-1)", show=False),
        Binding("end", "end(1)", show=False),
    ]
    cursor: reactive[int] = reactive(0)

    def count(self) -> int:
        """Return how many lines there are."""
        raise NotImplementedError

    def line(self, number: int, width: int) -> tuple[str, bool]:
        """Return the text of a line in this width, and whether it is dim."""
        raise NotImplementedError

    def moved(self) -> None:
        """React to a move of the cursor."""

    def on_mount(self) -> None:
        """Set the size of the list."""
        self.refilled()

    def refilled(self, cursor: int = 0) -> None:
        """Draw the list again after its lines have changed."""
        self.virtual_size = Size(0, self.count())
        self.cursor = max(0, min(self.count() - 1, cursor))
        self.scroll_to_region(Region(0, self.cursor, 1, 1), animate=False)
        self.refresh()

    def action_page(self, by: int) -> None:
        """Move the cursor by a page."""
        self.action_move(by * max(1, self.size.height - 1))

    def action_end(self, by: int) -> None:
        """Move the cursor to the first or last line."""
        self.action_move(by * self.count())

    def action_move(self, by: int) -> None:
        """Move the cursor by this many lines, within the list."""
        before = self.cursor
        self.cursor = max(0, min(self.count() - 1, self.cursor + by))
        self.scroll_to_region(Region(0, self.cursor, 1, 1), animate=False)
        self.refresh()
        if self.cursor != before:
            self.moved()

    def on_focus(self) -> None:
        """Draw the cursor as that of the list with the keyboard."""
        self.refresh()

    def on_blur(self) -> None:
        """Draw the cursor unfocused."""
        self.refresh()

    @property
    def room(self) -> int:
        """The width of a line without the scroll bar."""
        return self.scrollable_content_region.width or self.size.width

    def render_line(self, y: int) -> Strip:
        """Render one line of the screen."""
        number = y + self.scroll_offset.y
        width = self.room
        if number >= self.count():
            return Strip.blank(width)
        text, is_dim = self.line(number, width)
        is_here = number == self.cursor
        style = Style(
            reverse=is_here and self.has_focus, bold=is_here and not self.has_focus, dim=is_dim
        )
        return Strip([Segment(text, style)], len(text))


_COUNT, _SIZE = 13, 8


class Levels(CursorList):
    """The folders, each with the number of taken files and of all files below it.

    Args:
        tray: the rows of the cart.
        entered: called when the cursor is on another folder.
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


# On a narrower terminal the folders appear only if they are asked for.
_WIDE_COLUMNS = 100

_PEEKED_ROWS = 10

# The filter of larger carts waits for Enter.
_MAX_ROWS_WHILE_TYPING = 20_000

Peek = Callable[[Offer], Sequence[str]]
"""Looks into the file of a row, and returns lines about it."""


def tick(tray: CartView, request: PickRequest, room: int | None) -> bool:
    """Show the picker; return False if the user discards the changes.

    Args:
        tray: the rows of the cart.
        request: how servers are reached, to inspect files.
        room: the bytes that are free on the disk; None for unknown.
    """
    return bool(TickingApp(tray, partial(_look_into, request), room).run())


def _look_into(request: PickRequest, offer: Offer) -> list[str]:
    """Return lines about the content of a file, or why there are none."""
    try:
        peeked = peek_offer(request, offer, _PEEKED_ROWS)
    except WillowCartError as error:
        return [str(error)]
    content = peeked.content
    table = [*aligned(*shown_table(content)), ""] if content.columns else []
    return [
        headline(peeked), facts_line(content), "", *table, *content.notes, fetched_line(peeked)
    ]  # fmt: skip


class PeekScreen(ModalScreen[None]):
    """The content of a file, until a key is pressed.

    Args:
        lines: the text.
    """

    CSS = """
    PeekScreen { align: center middle; }
    PeekScreen VerticalScroll {
        width: 90%; height: auto; max-height: 90%; border: round $primary; padding: 0 1;
        background: $background;
    }
    PeekScreen Static { width: auto; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape,q,p,enter,space", "dismiss", "back"),
    ]

    def __init__(self, lines: Sequence[str]) -> None:
        super().__init__()
        self._lines = lines

    def compose(self) -> ComposeResult:
        """Create the text in a box."""
        with VerticalScroll():
            yield Static("\n".join(map(printable, self._lines)), markup=False)


class TickingApp(App[bool]):
    """The picker application.

    Args:
        tray: the rows.
        peek: looks into the file of a row.
        room: the bytes that are free on the disk; None for unknown.
    """

    ENABLE_COMMAND_PALETTE = False
    CSS = """
    Screen { layout: vertical; background: $background; }
    #head { height: 1; text-style: bold; }
    #total { height: 1; padding: 0 1; }
    Horizontal { height: 1fr; }
    Levels { width: 40%; display: none; scrollbar-size-vertical: 1; border-right: solid $primary; }
    Levels.open { display: block; }
    CartList { width: 1fr; scrollbar-size-vertical: 1; }
    #filter { display: none; height: 1; border: none; padding: 0 1; }
    #filter.asked { display: block; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("space", "tick", "tick"),
        Binding("a", "all", "all visible"),
        Binding("k", "alike('kind')", "kind"),
        Binding("f", "folder", "folder"),
        Binding("s", "alike('source')", "source"),
        Binding("t", "levels", "tree"),
        Binding("p", "peek", "peek"),
        Binding("slash", "filter", "filter", key_display="/"),
        Binding("enter", "save", "save"),
        Binding("q", "leave", "quit"),
        Binding("escape", "clear", show=False),
    ]

    def __init__(self, tray: CartView, peek: Peek = lambda _: (), room: int | None = None) -> None:
        super().__init__(ansi_color=True)
        self._tray = tray
        self._look = peek
        self._room_on_disk = room
        self._warned = False
        self._rows = CartList(tray)
        self._levels = Levels(tray, self._enter)

    def compose(self) -> ComposeResult:
        """Create the heading, folders, list, filter, totals and keys."""
        yield Static(id="head", markup=False)
        with Horizontal():
            yield self._levels
            yield self._rows
        yield Input(placeholder="words of a path, also with wildcards", id="filter", compact=True)
        yield Static(id="total", markup=False)
        yield Footer(show_command_palette=False)

    def on_mount(self) -> None:
        """Show the totals, and the folders if there is room for them."""
        self._levels.set_class(self._has_folders and self.size.width >= _WIDE_COLUMNS, "open")
        self._rows.focus()
        self._tell()

    @property
    def _has_folders(self) -> bool:
        return bool(self._tray.tree.children(self._tray.root))

    def _tell(self, note: str = "") -> None:
        """Show the total of taken rows, and how many rows are visible."""
        tray = self._tray
        line = f"{count_of(len(tray), 'row')}; taken: {tray.taken}"
        if self._room_on_disk is not None:
            short = tray.taken.bytes > self._room_on_disk
            line += f"; {format_size(self._room_on_disk)} free{', too little' if short else ''}"
        if len(tray.shown) != len(tray):
            line += f"; {len(tray.shown):,} visible, Esc shows all"
        self.query_one("#total", Static).update(note or line)
        self._warned = False
        self._rows.refresh()
        self._levels.refresh()
        self.call_after_refresh(self._head)  # a scroll bar may have come or gone

    def on_resize(self) -> None:
        """Lay out the headings again."""
        self.call_after_refresh(self._head)

    def _head(self) -> None:
        width = self._rows.room
        line = heading(width)
        if self._levels.has_class("open"):
            line = f"{'take  folder':<{max(0, self.size.width - width)}}{line}"
        self.query_one("#head", Static).update(line)

    def action_tick(self) -> None:
        """Tick or untick the row or the folder under the cursor."""
        if self._levels.has_focus:
            self._tick_together(self._tray.matching_within(self._levels.folder))
        elif (index := self._rows.index) is not None:
            self._tray.tick([index], mark=not self._tray.marks[index])
            self._rows.action_move(1)
            self._tell()

    def action_all(self) -> None:
        """Tick all visible rows, or untick them if all are ticked."""
        self._tick_together(self._tray.shown)

    def _tick_together(self, rows: Sequence[int]) -> None:
        self._tray.tick(rows, mark=not all(self._tray.marks[index] for index in rows))
        self._tell()

    def action_alike(self, by: str) -> None:
        """Tick or untick the rows that share the kind or source of the current row."""
        if (index := self._rows.index) is not None:
            mark = not self._tray.marks[index]
            self._tray.tick(self._tray.alike(index, By(by)), mark=mark)
            self._tell()

    def action_folder(self) -> None:
        """Tick or untick the visible rows in the folder of the current row."""
        if (index := self._rows.index) is not None:
            folder = self._tray.folder_of(index)
            same = [each for each in self._tray.shown if self._tray.folder_of(each) == folder]
            self._tray.tick(same, mark=not self._tray.marks[index])
            self._tell()

    def action_levels(self) -> None:
        """Go to the folders; from there, hide them."""
        if not self._has_folders:
            self._tell("there are no folders")
        elif self._levels.has_class("open") and self._levels.has_focus:
            self._levels.remove_class("open")
            self._rows.focus()
            self._enter(self._tray.root)
        else:
            self._levels.add_class("open")
            self._levels.focus()
            self._enter(self._levels.folder)

    def _enter(self, folder: int) -> None:
        self._tray.enter(folder)
        self._rows.refilled()
        self._tell()

    def action_peek(self) -> None:
        """Look into the file of the current row."""
        if (index := self._rows.index) is not None:
            offer = self._tray[index]
            self._tell(f"looking into {printable(offer.path)} ...")
            self._peek(offer)

    @work(thread=True, exclusive=True)
    def _peek(self, offer: Offer) -> None:
        """Look into a file without holding up the keyboard."""
        lines = self._look(offer)
        self.call_from_thread(self.push_screen, PeekScreen(lines))
        self.call_from_thread(self._tell)

    def action_filter(self) -> None:
        """Open the filter."""
        asked = self.query_one("#filter", Input)
        asked.add_class("asked")
        asked.focus()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Apply the filter while it is typed, unless that would take long."""
        if len(self._tray) <= _MAX_ROWS_WHILE_TYPING:
            self._show(event.value)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Apply the filter, and return to the rows."""
        if self._show(event.value):
            self._close_filter()

    def action_clear(self) -> None:
        """Remove the filter, and show all folders."""
        self.query_one("#filter", Input).value = ""
        self._tray.enter(self._tray.root)
        self._levels.refilled()
        self._show("")
        self._close_filter()

    def _show(self, pattern: str) -> bool:
        """Show the rows that match; return whether the pattern can be read."""
        try:
            self._tray.show(pattern)
        except BadOption as error:
            self._tell(str(error))
            return False
        self._rows.refilled()
        self._tell()
        return True

    def _close_filter(self) -> None:
        self.query_one("#filter", Input).remove_class("asked")
        self._rows.focus()

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
