"""The figures of a receipt, drawn by Matplotlib; the page's style sheet sets their colours."""

from __future__ import annotations

import io
import math
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping

from lxml import etree
from lxml.etree import _Element

from willow_cart.ledger.timeline import Timeline, TimelineCell
from willow_cart.model import Sizes
from willow_cart.structs import Value
from willow_cart.units import count_of, format_duration, format_size, printable


def element(tag: str, *content: str | _Element, **attributes: str) -> _Element:
    """Return an HTML or SVG element.

    Args:
        tag: its name.
        content: texts and elements; characters that cannot be seen are written out.
        attributes: an underscore stands for a hyphen, and one at the end for nothing: `class_`.
    """
    made = etree.Element(tag)
    for name, value in attributes.items():
        made.set(name.rstrip("_").replace("_", "-"), printable(value))
    last: _Element | None = None
    for each in content:
        if not isinstance(each, str):
            made.append(each)
            last = each
        elif last is None:
            made.text = f"{made.text or ''}{printable(each)}"
        else:
            last.tail = f"{last.tail or ''}{printable(each)}"
    return made


def asset(tag: str, text: str) -> _Element:
    """Return one of our style sheets or scripts."""
    made = etree.Element(tag)
    made.text = text
    return made


# Steps of time that users count in, in seconds: up to a day.
_TIMES = (
    0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200,
    10800, 21600, 43200, 86400,
)  # fmt: skip


def time_marks(seconds: float, most: int = 9) -> list[float]:
    """Return ticks from 0 to at most `seconds`, in usual units of time.

    Args:
        seconds: the length of the axis.
        most: how many marks there may be besides 0.
    """
    day = _TIMES[-1]
    step = next((time for time in _TIMES if time * most >= seconds), day)
    while step * most < seconds:
        step += day
    return [step * number for number in range(int(seconds / step + 1e-9) + 1)]


def name_time(seconds: float) -> str:
    """Format a time on the axis: `0.5 s`, `45 s`, `2:30`, `1:30:00`, `3 d 6 h`."""
    if seconds < 60:
        return f"{seconds:g} s"
    minutes, rest = divmod(round(seconds), 60)
    if minutes < 60:
        return f"{minutes}:{rest:02d}"
    hours, minutes = divmod(minutes, 60)
    if hours < 48:
        return f"{hours}:{minutes:02d}:{rest:02d}"
    return f"{hours // 24} d {hours % 24} h"


# Wide enough for each column to be seen.
_MAX_COLUMNS = 160

# As many hosts have a colour of their own.
_MAX_COLOURS = 6

# A figure is as wide as the page is at its widest, and lanes are as high as there is room for.
_WIDTH_INCHES = 10.0
_SPEED_INCHES = 2.3
_KIND_INCHES = 0.22
_HIGHEST_LANE, _LOWEST_LANE, _ALL_LANES = 0.22, 0.08, 4.2

_COLOURS = ("#8b979d", "#2d7f86", "#d98a1f", "#5a6fb8", "#b0548c", "#6b9a3a", "#b5482f", "#7a6a4f")
_FAINT, _RULE, _BAD = "#5b6a72", "#dfe4e3", "#a11b1b"

# What the style sheet calls these colours, which differ in a dark theme.
_NAMES = {colour: f"var(--c{place})" for place, colour in enumerate(_COLOURS)} | {
    _FAINT: "var(--faint)", _RULE: "var(--rule)", _BAD: "var(--bad)"
}  # fmt: skip

_SVG = "{http://www.w3.org/2000/svg}"

_Steps = dict[int, list[tuple[str, TimelineCell]]]


class Share(Value):
    """The share of one host in a haul.

    Attributes:
        host: its name; hosts without a colour of their own are one share together.
        colour: its place among the colours, from 1; 0 for the others together.
        bytes: that came from there.
        asking: seconds that lanes waited for its answers.
        receiving: seconds that lanes received.
    """

    host: str
    colour: int
    bytes: int
    asking: float
    receiving: float


class Colours:
    """The colours of the hosts with most bytes.

    Args:
        timeline: what came when.
    """

    def __init__(self, timeline: Timeline) -> None:
        cells: defaultdict[str, TimelineCell] = defaultdict(TimelineCell)
        for _, _, host, cell in timeline.each():
            cells[host].add(cell)
        order = sorted(cells, key=lambda host: (-cells[host].bytes, host))
        # One host more has one as well: "1 other host" would not be shorter than its name.
        shown = order[:_MAX_COLOURS] if len(order) > _MAX_COLOURS + 1 else order
        self._places = {host: place for place, host in enumerate(shown, 1)}
        self.shares = [
            Share(_named(host), place, cell.bytes, cell.asking, cell.receiving)
            for host, place in self._places.items()
            for cell in [cells[host]]
        ]
        if others := order[len(shown) :]:
            rest = TimelineCell()
            for host in others:
                rest.add(cells[host])
            name = f"{len(others):,} other hosts"
            self.shares.append(Share(name, 0, rest.bytes, rest.asking, rest.receiving))

    def of(self, host: str) -> int:
        """Return the index of the host's colour; 0 for a host without one."""
        return self._places.get(host, 0)


def _named(host: str) -> str:
    return host or "this machine"


class _Drawing:
    """A figure with one plot in it.

    Args:
        name: makes the identifiers of its parts its own; one page has several drawings.
        inches: its height.
    """

    def __init__(self, name: str, inches: float) -> None:
        from matplotlib.figure import Figure

        self._name = name
        self._figure = Figure(figsize=(_WIDTH_INCHES, inches), layout="constrained")
        self.axes = self._figure.subplots()
        self.axes.tick_params(colors=_FAINT, labelsize=8.5, length=0)
        self.axes.set_axisbelow(True)
        for side in self.axes.spines.values():
            side.set_visible(False)

    def set_time_axis(self, seconds: float) -> None:
        """Make the horizontal axis one of time."""
        marks = time_marks(seconds or 1.0)
        self.axes.set_xlim(0, seconds or 1.0)
        self.axes.set_xticks(marks, [name_time(mark) for mark in marks])
        self.axes.tick_params(axis="x", length=3)
        self.axes.spines["bottom"].set(visible=True, color=_FAINT)

    def svg(self, title: str, words: str) -> _Element:
        """Return the drawing, with a text alternative."""
        from matplotlib import rc_context

        text = io.StringIO()
        with rc_context({"svg.fonttype": "none", "svg.hashsalt": self._name}):
            self._figure.savefig(text, format="svg", transparent=True, metadata={"Date": None})
        drawn = text.getvalue()
        for colour, name in _NAMES.items():
            drawn = drawn.replace(colour, name)
        svg = etree.fromstring(drawn.encode(), etree.XMLParser(resolve_entities=False))
        for each in svg.iter(etree.Element):
            each.tag = str(each.tag).removeprefix(_SVG)
        for extra in svg.findall("metadata"):
            svg.remove(extra)
        etree.cleanup_namespaces(svg)
        del svg.attrib["width"], svg.attrib["height"]
        svg.set("role", "img")
        svg.set("aria-label", f"{title}. {words}")
        return svg


def draw_speed(timeline: Timeline, colours: Colours) -> _Element:
    """Draw bytes per second over time, as columns stacked by host."""
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    joined = math.ceil(timeline.seconds / timeline.step / _MAX_COLUMNS) or 1
    span = timeline.step * joined
    columns: defaultdict[int, Counter[int]] = defaultdict(Counter)
    for number, _, host, cell in timeline.each():
        columns[number // joined][colours.of(host)] += cell.bytes
    fastest = max((column.total() / span for column in columns.values()), default=0.0)
    drawing = _Drawing("speed", _SPEED_INCHES)
    axes = drawing.axes
    lefts = [number * span for number in sorted(columns)]
    below = [0.0] * len(lefts)
    for share in colours.shares:
        speeds = [columns[number][share.colour] / span for number in sorted(columns)]
        colour = _COLOURS[share.colour]  # of the edges as well: no light comes through between
        axes.bar(lefts, speeds, span, below, align="edge", color=colour, edgecolor=colour)
        below = [low + speed for low, speed in zip(below, speeds, strict=True)]
    axes.set_ylim(0, fastest * 1.05 or 1.0)
    axes.yaxis.set_major_locator(MaxNLocator(4, steps=[1, 2, 5, 10]))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda mark, _: f"{format_size(round(mark))}/s"))
    axes.yaxis.grid(visible=True, color=_RULE, linewidth=0.8)
    drawing.set_time_axis(timeline.seconds)
    shares = ", ".join(f"{format_size(each.bytes)} from {each.host}" for each in colours.shares)
    words = f"At most {format_size(int(fastest))} a second; {shares}."
    return drawing.svg("Bytes a second over time, by host", words)


class _Stretch(Value):
    """A period in which a lane did one thing.

    Attributes:
        since, until: in seconds from the haul's beginning.
        host: whom it asked, or received from.
        asks: whether it only waited for answers for the most part.
    """

    since: float
    until: float
    host: str
    asks: bool


def draw_lanes(timeline: Timeline, colours: Colours) -> _Element:
    """Draw what each lane did over time.

    There is a bar for each stretch, and a mark where a file was postponed.
    """
    lanes = timeline.lanes()
    high = max(_LOWEST_LANE, min(_HIGHEST_LANE, _ALL_LANES / len(lanes)))
    drawing = _Drawing("lanes", high * len(lanes) + 0.4)
    axes, places = drawing.axes, {lane: place for place, lane in enumerate(lanes)}
    did: defaultdict[int, _Steps] = defaultdict(lambda: defaultdict(list))
    for number, lane, host, cell in timeline.each():
        did[lane][number].append((host, cell))
    for lane, place in places.items():
        alike: defaultdict[tuple[int, bool], list[tuple[float, float]]] = defaultdict(list)
        for stretch in _stretches(did[lane], timeline.step):
            seconds = max(stretch.until - stretch.since, timeline.seconds / 1000)
            alike[colours.of(stretch.host), stretch.asks].append((stretch.since, seconds))
        for (colour, asks), spans in alike.items():
            alpha = 0.32 if asks else None
            axes.broken_barh(spans, (place - 0.32, 0.64), color=_COLOURS[colour], alpha=alpha)
    for wait in timeline.waits:
        at = places[wait.lane] + 0.4
        until = min(wait.at + wait.pause, timeline.seconds)
        axes.plot([wait.at, until], [at, at], "--", color=_BAD, linewidth=1.5)
        axes.plot([wait.at], [at - 0.5], "v", color=_BAD, markersize=6)
    every = math.ceil(0.12 / high)  # so that their numbers do not run together
    shown = lanes[::every]
    axes.set_yticks([places[lane] for lane in shown], [f"lane {lane + 1}" for lane in shown])
    axes.set_ylim(len(lanes) - 0.4, -0.6)
    drawing.set_time_axis(timeline.seconds)
    waits = count_of(len(timeline.waits) + timeline.more_waits, "time")
    lasted = f"{count_of(len(lanes), 'lane')} in {format_duration(timeline.seconds)}"
    return drawing.svg("What each lane did over time", f"{lasted}; {waits} a file was postponed.")


def _stretches(steps: _Steps, step: float) -> Iterator[_Stretch]:
    """Yield the periods of a lane, joining equal neighbouring steps."""
    at: _Stretch | None = None
    for number, cells in steps.items():
        host, busiest = max(cells, key=lambda each: each[1].asking + each[1].receiving)
        asks = busiest.asking > busiest.receiving
        busy = sum(cell.asking + cell.receiving for _, cell in cells)
        since = number * step
        until = since + min(step, max(busy, step / 4))
        if at is None:
            at = _Stretch(since, until, host, asks)
        elif (at.host, at.asks) == (host, asks) and since - at.until < step / 2:
            at = _Stretch(at.since, until, host, asks)
        else:
            yield at
            at = _Stretch(since, until, host, asks)
    if at is not None:
        yield at


def draw_kinds(kinds: Mapping[str, Sizes]) -> _Element:
    """Draw bytes by kind, the largest first, with the number of files."""
    rows = sorted(kinds.items(), key=lambda row: (-row[1].exact, row[0]))
    drawing = _Drawing("kinds", _KIND_INCHES * len(rows) + 0.1)
    axes = drawing.axes
    largest = max((sizes.exact for _, sizes in rows), default=0)
    for place, (_, sizes) in enumerate(rows):
        axes.barh(place, max(sizes.exact, largest / 1000), 0.7, color=_COLOURS[1])
        axes.annotate(
            _in_words(sizes), (sizes.exact, place), (6, 0), textcoords="offset points",
            va="center", fontsize=8.5, color=_FAINT,
        )  # fmt: skip
    axes.set_yticks(range(len(rows)), [kind for kind, _ in rows])
    axes.set_ylim(len(rows) - 0.5, -0.5)
    axes.set_xlim(0, largest * 1.3 or 1)  # with room for the words after the longest bar
    axes.set_xticks([])
    return drawing.svg(
        "Bytes by kind", "; ".join(f"{kind}: {_in_words(sizes)}" for kind, sizes in rows) + "."
    )


def _in_words(sizes: Sizes) -> str:
    return f"{format_size(sizes.exact)} in {count_of(sizes.files, 'file')}"
