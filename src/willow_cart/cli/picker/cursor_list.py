"""A list of lines with a cursor, of which only those on the screen are drawn."""

from __future__ import annotations

from typing import ClassVar

from rich.segment import Segment
from rich.style import Style
from textual.binding import Binding, BindingType
from textual.geometry import Region, Size
from textual.reactive import reactive
from textual.scroll_view import ScrollView
from textual.strip import Strip


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
        """React to a new place of the cursor."""

    def on_mount(self) -> None:
        """Set the size of the list."""
        self.refilled()

    def refilled(self, cursor: int = 0) -> None:
        """Draw the list anew after its lines have changed."""
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
        """Draw the cursor as that of a list without the keyboard."""
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
