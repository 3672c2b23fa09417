"""The figures of a receipt as inline SVG; a style sheet sets their colours."""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping

from lxml.etree import _Element

from willow_cart.ledger.timeline import Timeline, TimelineCell
from willow_cart.model import Sizes
from willow_cart.report.html import element
from willow_cart.structs import Value
from willow_cart.units import count_of, format_duration, format_size

# Steps of time that users count in, in seconds: up to a day.
_TIMES = (
    0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200,
    10800, 21600, 43200, 86400,
)  # fmt: skip


def even_marks(most: float, about: int = 4) -> list[float]:
    """Return ticks from 0 to the first not below `most`, in steps of 1, 2 or 5 times 10^n.

    Args:
        most: the largest value that is drawn; above 0.
        about: how many there are to be, roughly.
    """
    power = 10.0 ** math.floor(math.log10(most / about))
    step = next(power * factor for factor in (1, 2, 5, 10) if power * factor * about >= most)
    return [step * number for number in range(math.ceil(most / step - 1e-9) + 1)]


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


# In units of the drawing, which is as wide as the page is at its widest.
_WIDTH = 1000
_LEFT, _RIGHT, _TOP, _BOTTOM = 76, 12, 10, 26
_PLOT = _WIDTH - _LEFT - _RIGHT

_SPEED_HEIGHT = 190
_KIND_HEIGHT = 22

# Wide enough for each column to be seen.
_MAX_COLUMNS = 160

# As many hosts have a colour of their own.
_MAX_COLOURS = 6

# Lanes are as high as there is room for.
_HIGHEST_LANE, _LOWEST_LANE, _ALL_LANES = 22, 8, 420

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


def draw_speed(timeline: Timeline, colours: Colours) -> _Element:
    """Draw bytes per second over time, as columns stacked by host."""
    joined = math.ceil(timeline.seconds / timeline.step / _MAX_COLUMNS) or 1
    span = timeline.step * joined
    columns: defaultdict[int, Counter[int]] = defaultdict(Counter)
    for number, _, host, cell in timeline.each():
        columns[number // joined][colours.of(host)] += cell.bytes
    fastest = max((column.total() / span for column in columns.values()), default=0.0)
    marks = even_marks(fastest or 1.0)
    height = _SPEED_HEIGHT
    plot = _Plot(timeline.seconds, height)
    svg = _svg(
        height + _TOP + _BOTTOM,
        "Bytes a second over time, by host",
        f"At most {format_size(int(fastest))} a second; {_shares_in_words(colours.shares)}.",
    )
    for mark in marks:
        y = plot.bottom - height * mark / marks[-1]
        svg.append(_line(_LEFT, y, _LEFT + _PLOT, y, "grid"))
        svg.append(_text(_LEFT - 8, y + 4, f"{format_size(round(mark))}/s", "end"))
    svg.extend(plot.time_axis())
    for number, column in sorted(columns.items()):
        y = plot.bottom
        left, right = plot.x(number * span), plot.x(min((number + 1) * span, timeline.seconds))
        for share in colours.shares:
            speed = column[share.colour] / span
            if not speed:
                continue
            high = height * speed / marks[-1]
            y -= high
            told = (
                f"{share.host}: {format_size(int(speed))}/s from {name_time(number * span)} to"
                f" {name_time((number + 1) * span)}"
            )
            # Columns touch, so that no light comes through between them.
            box = _Box(left, y, max(right - left, 0.8), high)
            svg.append(box.draw(f"c{share.colour}", told))
    return svg


class _Stretch(Value):
    """A period in which a lane did one thing.

    Attributes:
        since, until: in seconds from the haul's beginning.
        host: whom it asked, or received from.
        asks: whether it only waited for answers for the most part.
        bytes: that came meanwhile.
    """

    since: float
    until: float
    host: str
    asks: bool
    bytes: int


def draw_lanes(timeline: Timeline, colours: Colours) -> _Element:
    """Draw what each lane did over time.

    There is a bar for each stretch, and a mark where a file was postponed.
    """
    lanes = timeline.lanes()
    room = max(_LOWEST_LANE, min(_HIGHEST_LANE, _ALL_LANES // len(lanes)))
    height = room * len(lanes)
    plot = _Plot(timeline.seconds, height)
    waits = len(timeline.waits) + timeline.more_waits
    svg = _svg(
        height + _TOP + _BOTTOM,
        "What each lane did over time",
        f"{count_of(len(lanes), 'lane')} in {format_duration(timeline.seconds)};"
        f" {count_of(waits, 'time')} a file was postponed.",
    )
    svg.extend(plot.time_axis())
    thick = room * 0.64
    tops = {lane: _TOP + room * place + (room - thick) / 2 for place, lane in enumerate(lanes)}
    did: defaultdict[int, _Steps] = defaultdict(lambda: defaultdict(list))
    for number, lane, host, cell in timeline.each():
        did[lane][number].append((host, cell))
    every = math.ceil(len(lanes) * 12 / height)  # so that their numbers do not run together
    for place, lane in enumerate(lanes):
        if not place % every:
            svg.append(_text(_LEFT - 8, tops[lane] + thick / 2 + 4, f"lane {lane + 1}", "end"))
        for stretch in _stretches(did[lane], timeline.step):
            left, right = plot.x(stretch.since), plot.x(stretch.until)
            when = f"{name_time(round(stretch.since, 2))} to {name_time(round(stretch.until, 2))}"
            what = "waits for answers" if stretch.asks else f"{format_size(stretch.bytes)} come"
            told = f"lane {lane + 1}, {when}: {_named(stretch.host)}, {what}"
            look = f"c{colours.of(stretch.host)}{' asks' if stretch.asks else ''}"
            svg.append(_Box(left, tops[lane], max(right - left, 0.6), thick).draw(look, told))
    for wait in timeline.waits:
        left, y = plot.x(wait.at), tops[wait.lane]
        right = min(plot.x(wait.at + wait.pause), _LEFT + _PLOT)
        told = (
            f"lane {wait.lane + 1}, {name_time(round(wait.at, 2))}: {wait.path} is put"
            f" off for {format_duration(wait.pause)}: {wait.reason}"
        )
        low = y + thick + (room - thick) / 4
        arrow = element("path", d=f"M{left - 5:.1f} {y - 2:.1f}h10l-5 9z")
        mark = element("g", element("title", told), _line(left, low, right, low, ""), arrow)
        mark.set("class", "wait")
        svg.append(mark)
    return svg


def _stretches(steps: _Steps, step: float) -> Iterator[_Stretch]:
    """Yield the periods of a lane, joining equal neighbouring steps."""
    at: _Stretch | None = None
    for number, cells in steps.items():
        host, busiest = max(cells, key=lambda each: each[1].asking + each[1].receiving)
        asks = busiest.asking > busiest.receiving
        came = sum(cell.bytes for _, cell in cells)
        busy = sum(cell.asking + cell.receiving for _, cell in cells)
        since = number * step
        until = since + min(step, max(busy, step / 4))
        if at is None:
            at = _Stretch(since, until, host, asks, came)
        elif (at.host, at.asks) == (host, asks) and since - at.until < step / 2:
            at = _Stretch(at.since, until, host, asks, at.bytes + came)
        else:
            yield at
            at = _Stretch(since, until, host, asks, came)
    if at is not None:
        yield at


def draw_kinds(kinds: Mapping[str, Sizes]) -> _Element:
    """Draw bytes by kind, the largest first, with the number of files."""
    rows = sorted(kinds.items(), key=lambda row: (-row[1].exact, row[0]))
    largest = max((sizes.exact for _, sizes in rows), default=0)
    height = _KIND_HEIGHT * len(rows)
    words = "; ".join(f"{kind}: {_in_words(sizes)}" for kind, sizes in rows)
    svg = _svg(height + _TOP, "Bytes by kind", f"{words}.")
    room = _PLOT - 190  # for the words behind the longest bar
    for place, (kind, sizes) in enumerate(rows):
        y = _TOP + _KIND_HEIGHT * place
        wide = room * sizes.exact / largest if largest else 0
        svg.append(_text(_LEFT - 8, y + 15, kind, "end"))
        box = _Box(_LEFT, y + 3, max(wide, 1), _KIND_HEIGHT - 6)
        svg.append(box.draw("c1", _in_words(sizes)))
        svg.append(_text(_LEFT + wide + 8, y + 15, _in_words(sizes), "start"))
    return svg


def _in_words(sizes: Sizes) -> str:
    return f"{format_size(sizes.exact)} in {count_of(sizes.files, 'file')}"


def _shares_in_words(shares: Iterable[Share]) -> str:
    return ", ".join(f"{format_size(share.bytes)} from {share.host}" for share in shares)


class _Plot(Value):
    """The coordinates of a drawing.

    Attributes:
        seconds: how long the haul took.
        height: of what is drawn above the axis.
    """

    seconds: float
    height: float

    @property
    def bottom(self) -> float:
        """The y coordinate of the time axis."""
        return _TOP + self.height

    def x(self, moment: float) -> float:
        """Return the x coordinate of a time."""
        return _LEFT + _PLOT * min(moment / (self.seconds or 1.0), 1.0)

    def time_axis(self) -> Iterator[_Element]:
        """Yield the time axis with its ticks and labels."""
        yield _line(_LEFT, self.bottom, _LEFT + _PLOT, self.bottom, "axis")
        for mark in time_marks(self.seconds or 1.0):
            x = self.x(mark)
            yield _line(x, self.bottom, x, self.bottom + 4, "axis")
            yield _text(x, self.bottom + 18, name_time(mark), "middle")


def _svg(height: float, title: str, words: str) -> _Element:
    """Return an empty drawing with a text alternative."""
    size = f"0 0 {_WIDTH} {height:.0f}"
    return element("svg", viewBox=size, role="img", aria_label=f"{title}. {words}")


class _Box(Value):
    """A rectangle in a drawing."""

    x: float
    y: float
    width: float
    height: float

    def draw(self, look: str, told: str) -> _Element:
        """Draw it, with a tooltip."""
        places = {
            "x": self.x, "y": self.y, "width": self.width, "height": self.height
        }  # fmt: skip
        at = {name: f"{place:.1f}" for name, place in places.items()}
        return element("rect", element("title", told), class_=look, **at)


def _line(x: float, y: float, to_x: float, to_y: float, look: str) -> _Element:
    ends = {"x1": x, "y1": y, "x2": to_x, "y2": to_y}
    return element("line", class_=look, **{name: f"{end:.1f}" for name, end in ends.items()})


def _text(x: float, y: float, words: str, anchor: str) -> _Element:
    return element("text", words, x=f"{x:.1f}", y=f"{y:.1f}", text_anchor=anchor)
