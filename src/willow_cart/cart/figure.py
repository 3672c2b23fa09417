"""Draw a figure of a cart; Matplotlib is imported only for that."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cart.weighing import Weight, heaviest, in_time
from willow_cart.model import Sizes, sum_of
from willow_cart.replacing import marked_with, replacing_bytes
from willow_cart.units import count_of, format_size

if TYPE_CHECKING:
    from matplotlib.axes import Axes

# Bars of their own; the others are added up in one bar.
_MAX_BARS = 9
_MAX_NAME_CHARACTERS = 26

# Space for at least this many bars, so that a single one is not huge.
_MIN_BAR_PLACES = 8

_BAR, _OTHERS, _TEXT, _FAINT = "#3b7a7a", "#a9c4c4", "#22303a", "#8a979f"


_MARK = "willow-cart, what a cart weighs"


def draw(
    weight: Weight, path: Path, *, title: str, room: int | None = None, overwrite: bool = False
) -> None:
    """Draw the sizes in a cart by kind, folder and month, and compare them with the free space.

    All axes begin at nothing and are in bytes; unknown sizes are reported in words, not drawn.

    Args:
        weight: what to draw.
        path: a name that ends in `.png` or `.svg`.
        room: bytes that are free where it is to go; None if unknown.
        overwrite: whether a file there is replaced that is not such a figure.

    Raises:
        BadOption: the file that is there is not such a figure.
        CannotStore: the file cannot be written.
    """
    from matplotlib import rc_context
    from matplotlib.figure import Figure
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    # Text stays text in an SVG, so that it can be searched and needs no font of its own.
    with rc_context({"svg.fonttype": "none", "svg.hashsalt": "willow-cart", "font.size": 10}):
        layout = ConstrainedLayoutEngine(w_pad=0.25, h_pad=0.2)  # inches
        figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="white", layout=layout)
        grid = figure.subplots(2, 2)
        figure.suptitle(_heading(weight, title), fontsize=15, color=_TEXT)
        _draw_bars(grid[0][0], "by kind", heaviest(weight.kinds))
        _draw_bars(grid[0][1], "by folder", heaviest(weight.folders))
        _draw_bars(grid[1][0], "by month of the last change", in_time(weight.months), cut=False)
        _draw_room(grid[1][1], weight.all, room)
        is_svg = path.suffix.lower() == ".svg"
        metadata = {"Date": None, "Creator": _MARK} if is_svg else {"Software": _MARK}
        with replacing_bytes(
            path, advice="name another", is_ours=marked_with(_MARK.encode()), overwrite=overwrite
        ) as file:
            figure.savefig(file, format=path.suffix[1:].lower(), metadata=metadata)


def _heading(weight: Weight, title: str) -> str:
    whole = weight.all
    heading = f"{title}: {count_of(whole.files, 'file')}, {_about(whole)}"
    if whole.unknown:
        heading += f" and {count_of(whole.unknown, 'size')} unknown"
    return heading


def _about(sizes: Sizes) -> str:
    return f"{'about ' if sizes.rough else ''}{format_size(sizes.bytes)}"


def _said(sizes: Sizes) -> str:
    """Return the label of a bar; an unknown size is not shown as zero."""
    files = count_of(sizes.files, "file")
    if sizes.unknown == sizes.files:
        return f" {files} of unknown size"
    unknown = f", {sizes.unknown:,} of them unknown" if sizes.unknown else ""
    return f" {_about(sizes)} in {files}{unknown}"


def _draw_bars(
    axes: Axes, title: str, groups: Sequence[tuple[str, Sizes]], *, cut: bool = True
) -> None:
    """Draw horizontal bars, the first on top, labelled with size and number of files."""
    shown = list(groups)
    colours = [_BAR] * len(shown)
    if cut and len(shown) > _MAX_BARS + 1:
        rest = shown[_MAX_BARS:]
        others = sum_of(sizes for _, sizes in rest)
        shown = [*shown[:_MAX_BARS], (f"{len(rest):,} others", others)]
        colours = [*colours[:_MAX_BARS], _OTHERS]
    places = range(len(shown))
    lengths = [sizes.bytes for _, sizes in shown]
    axes.barh(places, lengths, color=colours, height=0.7)
    axes.set_yticks(places, [_cut(name) for name, _ in shown])
    axes.invert_yaxis()
    axes.set_ylim(max(len(shown), _MIN_BAR_PLACES) - 0.5, -0.5)
    axes.set_title(title, loc="left", fontsize=11, color=_TEXT)
    for place, (_, sizes) in zip(places, shown, strict=True):
        axes.text(sizes.bytes, place, _said(sizes), va="center", fontsize=8.5, color=_TEXT)
    _finish(axes, max(lengths, default=0))


def _draw_room(axes: Axes, whole: Sizes, room: int | None) -> None:
    """Draw the size to haul and the free space on one scale."""
    rows = [("the cart", whole.bytes, _BAR)]
    if room is not None:
        rows.append(("free space", room, _OTHERS))
    places = range(len(rows))
    axes.barh(places, [row[1] for row in rows], color=[row[2] for row in rows], height=0.7)
    axes.set_yticks(places, [row[0] for row in rows])
    axes.set_ylim(_MIN_BAR_PLACES - 0.5, -0.5)
    axes.set_title("does it fit?", loc="left", fontsize=11, color=_TEXT)
    for place, (_, length, _colour) in zip(places, rows, strict=True):
        unknown = f" and {whole.unknown:,} unknown" if whole.unknown and not place else ""
        said = f" {format_size(length)}{unknown}"
        axes.text(length, place, said, va="center", fontsize=8.5, color=_TEXT)
    _finish(axes, max(row[1] for row in rows))


def _finish(axes: Axes, longest: int) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    # What is said at the end of the longest bar needs some room as well.
    axes.set_xlim(0, longest * 1.6 or 1)
    axes.xaxis.set_major_locator(MaxNLocator(5))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: format_size(int(value))))
    axes.tick_params(colors=_FAINT, labelcolor=_TEXT, length=0, labelsize=9)
    axes.xaxis.grid(True, color="#e3e8ea", linewidth=0.8)
    axes.set_axisbelow(True)
    for side in axes.spines.values():
        side.set_visible(False)


def _cut(name: str) -> str:
    """Shorten a long name in the middle, and escape `$`, which starts a formula."""
    if len(name) > _MAX_NAME_CHARACTERS:
        half = _MAX_NAME_CHARACTERS // 2
        name = f"{name[:half]}…{name[1 - half :]}"
    return name.replace("$", r"\$")
