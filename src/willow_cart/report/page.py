"""The page: result, problems, figures, and every file."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from importlib.resources import files
from itertools import chain
from pathlib import Path

from lxml import html
from lxml.etree import _Element

from willow_cart.errors import Exit
from willow_cart.kinds import kind_of
from willow_cart.ledger.entries import StepRecord
from willow_cart.ledger.receipt import (
    OpenReceipt,
    ReceiptRow,
    RunSummary,
    WorkerShare,
    open_receipt,
)
from willow_cart.ledger.timeline import Timeline
from willow_cart.model import Sizes, State, label_of
from willow_cart.replacing import marked_with, replacing, require_output
from willow_cart.report.figures import Colours, asset, draw_kinds, draw_lanes, draw_speed, element
from willow_cart.units import count_of, format_duration, format_size

MAX_LISTED_FILES = 20_000
"""As many files are listed; a page with more would keep a browser busy for minutes."""

# Nothing is fetched when the page is opened, and nothing that it quotes can be run.
_POLICY = "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'"

_COLUMNS = ("no.", "state", "path", "size", "checked by", "arrived (UTC)", "SHA-256", "address")
_NUMERIC = ("no.", "size")


_GENERATOR = "willow-cart"
_IS_RECEIPT = marked_with(b'<meta name="generator" content="willow-cart">')


def write_page(
    destination: Path, page: Path, run: int | None = None, *, overwrite: bool = False
) -> None:
    """Write the receipt of a run as a self-contained page.

    Args:
        destination: the folder that was hauled into.
        page: where to write it; a receipt there is replaced.
        run: its number; None for the last one.
        overwrite: whether any other file there is replaced too.

    Raises:
        UnreadableLedger: no ledger, or no such run in it.
        BadOption: something else is there.
        CannotStore: the page cannot be written.
    """
    require_output(page, _IS_RECEIPT, overwrite=overwrite)
    with open_receipt(destination, run) as receipt:
        document = _document(receipt, destination.resolve().name)
    text = html.tostring(document, doctype="<!doctype html>", encoding="unicode", method="html")
    text = text.replace("</wbr>", "")  # libxml2 is older than this element, which has no end
    with replacing(page, advice="name another", is_ours=_IS_RECEIPT, overwrite=overwrite) as file:
        file.write(f"{text}\n")


def _document(receipt: OpenReceipt, folder: str) -> _Element:
    run, timeline = receipt.summary, receipt.timeline
    title = f"Receipt of haul {run.run} into {folder}"
    head = element(
        "head",
        element("meta", charset="utf-8"),
        element("meta", http_equiv="Content-Security-Policy", content=_POLICY),
        element("meta", name="generator", content=_GENERATOR),
        element("meta", name="viewport", content="width=device-width, initial-scale=1"),
        element("title", title),
        asset("style", _read("page.css")),
    )
    main = element("main", element("h1", title), *_summary(run, receipt.files, timeline))
    main.append(_troubles(receipt))
    if steps := receipt.steps:
        main.append(_steps(steps))
    main.extend(_figures(receipt, timeline))
    main.append(_files(receipt))
    main.append(element("footer", _origin(run)))
    return element(
        "html", head, element("body", main, asset("script", _read("page.js"))), lang="en"
    )


def _read(name: str) -> str:
    return files("willow_cart.report").joinpath(name).read_text("utf-8")


def _summary(run: RunSummary, count: int, timeline: Timeline) -> Iterator[_Element]:
    """Yield the result in one line, then the figures."""
    look = "fine" if run.exit_code == 0 else "bad"
    yield element("p", _verdict(run, count), class_=f"verdict {look}")
    if run.note:
        yield element("p", run.note, class_="note")
    facts = [(state.label, f"{run.counts[state]:,}") for state in State if run.counts.get(state)]
    facts.append(("received", format_size(run.received)))
    if run.ended is not None:
        seconds = timeline.seconds or _moment(run.ended) - _moment(run.started)
        facts.append(("duration", format_duration(seconds)))
        if seconds:
            facts.append(("average speed", f"{format_size(int(run.received / seconds))}/s"))
    tiles = (element("div", element("dt", name), element("dd", value)) for name, value in facts)
    yield element("dl", *tiles, class_="tiles")


def _verdict(run: RunSummary, count: int) -> str:
    """Return the result of a haul in one line, in words."""
    lost = run.counts.get(State.FAILED, 0) + run.counts.get(State.REFUSED, 0)
    here = count - lost
    if run.exit_code is None:
        return f"It was cut off; {here:,} of the files processed so far are here."
    if run.exit_code == Exit.INTERRUPTED:
        return f"It was interrupted; {here:,} of the files processed so far are here."
    if lost:
        states = (State.FAILED, State.REFUSED)
        lost_how = [
            f"{run.counts[state]:,} {state.label}" for state in states if run.counts.get(state)
        ]
        return f"{here:,} of {count_of(count, 'file')} are here; {' and '.join(lost_how)}."
    if run.exit_code == Exit.CHECK_FAILED:
        return f"{count_of(count, 'file')} arrived, and some are damaged inside."
    return f"All {count:,} files are here." if count != 1 else "The one file is here."


def _troubles(receipt: OpenReceipt) -> _Element:
    """Return the problems with their reasons."""
    rows = [*receipt.troubles(MAX_LISTED_FILES)]
    if not rows:
        return _section("troubles", "Problems", element("p", "Nothing."))
    cells = (
        [_state(row), _cell(_path(row.path)), _cell(row.reason), _cell(_link(row.address)),
         _cell(str(row.attempts))]
        for row in rows
    )  # fmt: skip
    columns = ("state", "path", "reason", "address", "attempts")
    caption = "Missing and damaged files"
    table = _table(caption, columns, cells, ("attempts",), look="told")
    return _section("troubles", "Problems", table)


def _steps(steps: Sequence[StepRecord]) -> _Element:
    """Return what was done with the files after the haul."""
    cells = (
        [
            _cell(str(step.number)),
            _cell(step.command),
            _cell(", ".join(f"{count:,} {name}" for name, count in step.counts.items())),
            _cell(str(step.exit_code)),
        ]
        for step in steps
    )
    columns = ("number", "command", "result", "exit code")
    table = _table("Steps of the errand", columns, cells, ("number", "exit code"), look="small")
    return _section("steps", "Steps", table)


def _figures(receipt: OpenReceipt, timeline: Timeline) -> Iterator[_Element]:
    if timeline:
        colours = Colours(timeline)
        drawn = _figure(draw_speed(timeline, colours))
        yield _section("speed", "Bytes over time, by host", drawn, _shares(colours))
        drawn = _figure(draw_lanes(timeline, colours))
        key = element("p", *_key(), class_="key")
        yield _section("lanes", "Lanes over time", key, drawn, *_waits(timeline))
    if workers := receipt.workers:
        yield _section("workers", "Workers of the cluster", _workers(workers))
    kinds: defaultdict[str, Sizes] = defaultdict(Sizes)
    for row in receipt.rows():
        if row.size is not None:
            sizes = kinds[kind_of(row.path.rpartition("/")[2])]
            sizes.files += 1
            sizes.exact += row.size
    if kinds:
        yield _section("kinds", "Sizes by kind", _figure(draw_kinds(kinds)))


def _section(name: str, title: str, *content: _Element) -> _Element:
    heading = element("h2", title, id=name)
    return element("section", heading, *content, aria_labelledby=name)


def _figure(drawing: _Element) -> _Element:
    """Return a drawing, which scrolls in a narrow window."""
    return element("figure", drawing, tabindex="0")


def _key() -> Iterator[_Element]:
    """Yield the legend of the lane figure."""
    yield element("span", _swatch("c1"), "receiving")
    yield element("span", _swatch("c1 asks"), "waiting for an answer")
    line = element("line", x1="5", y1="11", x2="26", y2="11")
    mark = element("g", element("path", d="M0 0h10l-5 9z"), line, class_="wait")
    yield element("span", _small(mark), "postponed until the end of the line")


def _swatch(look: str) -> _Element:
    return _small(element("rect", width="26", height="12", class_=look))


def _small(drawn: _Element) -> _Element:
    return element("svg", drawn, class_="swatch", viewBox="0 0 26 12", aria_hidden="true")


def _shares(colours: Colours) -> _Element:
    """Return the legend of the hosts with their numbers."""
    cells = (
        [
            element("td", _swatch(f"c{share.colour}"), share.host),
            _cell(format_size(share.bytes)),
            _cell(format_duration(round(share.receiving, 1))),
            _cell(format_duration(round(share.asking, 1))),
        ]
        for share in colours.shares
    )
    columns = ("host", "received", "time receiving", "time waiting")
    return _table("By host", columns, cells, columns[1:], look="small")


def _workers(workers: Sequence[WorkerShare]) -> _Element:
    """Return what each worker of a cluster carried."""
    cells = (
        [
            _cell(each.worker),
            _cell(f"{each.files:,}"),
            _cell(format_size(each.received)),
            _cell(format_duration(round(each.seconds, 1))),
        ]
        for each in workers
    )
    columns = ("worker", "files", "received", "time")
    return _table("By worker", columns, cells, columns[1:], look="small")


def _waits(timeline: Timeline) -> Iterator[_Element]:
    """Return the postponed files as a table."""
    count = len(timeline.waits) + timeline.more_waits
    if not count:
        return
    cells = (
        [_cell(f"{wait.at:.1f} s"), _cell(str(wait.lane + 1)), _cell(_path(wait.path)),
         _cell(wait.reason), _cell(format_duration(round(wait.pause, 1)))]
        for wait in timeline.waits
    )  # fmt: skip
    columns = ("after", "lane", "path", "reason", "for")
    numeric = ("after", "lane", "for")
    table = _table("Postponed files", columns, cells, numeric, look="told")
    times = count_of(count, "time")
    more = f"; the first {len(timeline.waits):,} are listed" if timeline.more_waits else ""
    yield element("details", element("summary", f"{times} a file was postponed{more}"), table)


def _files(receipt: OpenReceipt) -> _Element:
    """Return the table of files, those with problems first."""
    section = _section("files", "Files")
    if receipt.files > MAX_LISTED_FILES:
        more = count_of(receipt.files - MAX_LISTED_FILES, "more file")
        words = f"{more} are not shown; receipt --csv lists all."
        section.append(element("p", words, class_="note"))
    # The field requires the script, which shows it.
    field = element("input", type="search", id="find", aria_controls="list")
    label = element("label", "Find files: ", for_="find")
    found = element("span", id="found", role="status")
    section.append(element("p", label, field, " ", found, id="search", hidden="hidden"))
    rows = map(_cells, receipt.foremost(MAX_LISTED_FILES))
    section.append(_table("Files of this haul", _COLUMNS, rows, _NUMERIC, name="list"))
    return section


def _cells(row: ReceiptRow) -> list[_Element]:
    size = _cell("" if row.size is None else format_size(row.size))
    size.set("data-value", "" if row.size is None else str(row.size))
    when = row.arrived and f"{datetime.fromisoformat(row.arrived):%Y-%m-%d %H:%M:%S}"
    return [
        _cell(str(row.number)),
        _state(row),
        _cell(_path(row.path)),
        size,
        _cell(row.verdict or ""),
        _cell(when or ""),
        _cell(element("code", row.sha256 or "", class_="sum")),
        _cell(_link(row.address)),
    ]


def _table(
    caption: str,
    columns: Sequence[str],
    rows: Iterable[Sequence[_Element]],
    numeric: Sequence[str],
    *,
    name: str = "",
    look: str = "",
) -> _Element:
    """Return a table, which scrolls in a narrow window."""
    heads = [element("th", column, scope="col") for column in columns]
    body = element("tbody")
    right = [place for place, column in enumerate(columns) if column in numeric]
    for cells in chain([heads], rows):
        for place in right:
            cells[place].set("class", "number")
            cells[place].set("data-name", columns[place])
        if cells is not heads:
            body.append(element("tr", *cells))
    head = element("thead", element("tr", *heads))
    table = element("table", element("caption", caption), head, body)
    for attribute, value in (("id", name), ("class", look)):
        if value:
            table.set(attribute, value)
    return element("div", table, class_="frame", tabindex="0", role="region", aria_label=caption)


def _cell(content: str | _Element) -> _Element:
    return element("td", content)


def _state(row: ReceiptRow) -> _Element:
    """Return the cell of a state, with problems in words."""
    if row.reason and row.state == State.ARRIVED:
        return element("td", f"{label_of(row.state)}, damaged inside", class_="bad")
    look = "bad" if row.reason else "fine" if row.state == State.ARRIVED else "still"
    return element("td", label_of(row.state), class_=look)


def _path(path: str) -> _Element:
    return element("span", *_breakable(path), class_="path")


def _link(address: str) -> _Element:
    """Return an address, as a link without a referrer if it is on the web."""
    words = _breakable(address)
    if address.startswith(("https://", "http://")) and address.isprintable():
        return element("a", *words, href=address, rel="noreferrer noopener", class_="path")
    return element("span", *words, class_="path")


def _breakable(path: str) -> Iterator[str | _Element]:
    """Yield a path with a possible line break after each slash."""
    first, *others = path.split("/")
    yield first
    for part in others:
        yield from ("/", element("wbr"), part)


def _origin(run: RunSummary) -> _Element:
    """Return when, by which command and by which version the haul was run."""
    began = datetime.fromisoformat(run.started)
    software = f" by {run.software}" if run.software else ""
    words = f"Begun {began:%Y-%m-%d %H:%M:%S} UTC{software}: "
    return element("p", words, element("code", run.command))


def _moment(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()
