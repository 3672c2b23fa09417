"""`receipt`: print the account of a haul."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from itertools import chain, islice
from pathlib import Path
from typing import Any

from willow_cart.addresses import name_of, take_inside
from willow_cart.cli.screen import MAX_DRAWN_ROWS, show_csv, show_line, show_table, show_text, tell
from willow_cart.commands.receipt import (
    Account,
    BagWritten,
    Lines,
    PageWritten,
    ReceiptRequest,
    Story,
    Summaries,
    receipt,
)
from willow_cart.commands.result import counted
from willow_cart.destination.destination import is_in_use
from willow_cart.errors import Exit
from willow_cart.ledger.receipt import Chapter, OpenReceipt, ReceiptRow, RunSummary
from willow_cart.model import State, label_of
from willow_cart.structs import to_builtins
from willow_cart.units import count_of, format_duration, format_size, json_text
from willow_cart.views.words import step_line

# What is reported of a file that came out of an archive.
_OF_MEMBER = ("path", "address", "time", "size", "sha256", "archive", "verdict")


def run(request: ReceiptRequest) -> int:
    """Read the receipt and print it."""
    with receipt(request) as result:
        show(request, result)
    return Exit.GOOD


def show(request: ReceiptRequest, result: Account) -> None:
    """Print the account, or where it was written."""
    match result:
        case BagWritten():
            show_line(f"{count_of(result.files, 'file')} in the bag {result.bag}")
        case PageWritten():
            tell(f"written to {result.page}")
        case Lines():
            for line in result.lines:
                show_text(line)
        case Summaries():
            _list(request, [*map(_run_facts, result.runs)])
        case Story():
            _list(request, [*map(_chapter_facts, result.chapters)])
        case OpenReceipt() if request.json:
            _write_json(result)
        case OpenReceipt() if request.csv:
            names = ReceiptRow.__struct_fields__
            show_csv(chain([names], (_as_dict(row).values() for row in result.rows())))
        case OpenReceipt():
            _show(result, request)


def _write_json(receipt: OpenReceipt) -> None:
    """Print one JSON object with a line per file; rows are streamed."""
    show_text(json_text(_run_facts(receipt.summary), indent=2)[:-2], end="")
    _write_json_list("files", map(_as_dict, receipt.rows()))
    members = ({name: getattr(each, name) for name in _OF_MEMBER} for each in receipt.unpacked())
    _write_json_list("members", members)
    _write_json_list("steps", map(to_builtins, receipt.steps))
    show_text("\n}")


def _write_json_list(name: str, entries: Iterable[object]) -> None:
    show_text(f',\n  "{name}": [', end="")
    comma = ""
    for entry in entries:
        show_text(f"{comma}\n    {json_text(entry)}", end="")
        comma = ","
    show_text("\n  ]", end="")


def _as_dict(row: ReceiptRow) -> dict[str, object]:
    return {name: getattr(row, name) for name in row.__struct_fields__}


def _run_facts(run: RunSummary) -> dict[str, object]:
    facts: dict[str, object] = to_builtins(run)
    return facts


def _chapter_facts(chapter: Chapter) -> dict[str, object]:
    return {"run": chapter.run, "started": chapter.started, **to_builtins(chapter.row)}


def _flat(row: Mapping[str, Any]) -> dict[str, object]:
    """Return a row for a table, with the counts as columns of their own."""
    flat = {name: value for name, value in row.items() if name != "counts"}
    if "counts" in row:
        flat |= {str(state): row["counts"].get(state, 0) for state in State}
    return flat


def _list(request: ReceiptRequest, rows: list[dict[str, object]]) -> None:
    """Print runs, or the history of a file."""
    if request.json:
        show_text(json_text(rows, indent=2))
    elif request.csv:
        flat = [*map(_flat, rows)]
        show_csv([flat[0], *(row.values() for row in flat)])
    elif request.runs:
        _show_runs(rows, request.folder)
    else:
        _show_story(rows)


def _show_runs(runs: Sequence[Mapping[str, Any]], folder: Path) -> None:
    rows = []
    for run in runs:
        counts = ", ".join(f"{count:,} {label_of(state)}" for state, count in run["counts"].items())
        code = str(run["exit_code"])
        if run["exit_code"] is None:
            code = "running" if run is runs[-1] and is_in_use(folder) else "interrupted"
        when = f"{datetime.fromisoformat(run['started']):%Y-%m-%d %H:%M}"
        words = f"{run['note']} | {run['command']}" if run["note"] else run["command"]
        received = format_size(run["received"])
        rows.append((str(run["run"]), when, code, counts, received, words))
    columns = ("run", "started (UTC)", "exit code", "files", "received", "command")
    show_table(columns, rows, numeric=("run", "received"))
    show_line(count_of(len(rows), "run"))


def _show_story(chapters: Sequence[Mapping[str, Any]]) -> None:
    rows = [
        (
            str(each["run"]), f"{datetime.fromisoformat(each['started']):%Y-%m-%d %H:%M}",
            label_of(each["state"]), "" if each["size"] is None else format_size(each["size"]),
            (each["sha256"] or "")[:12], each["verdict"] or "", each["last_modified"] or "",
            each["reason"],
        )
        for each in chapters
    ]  # fmt: skip
    last = chapters[-1]
    show_line(f"{last['path']}, from {last['address']}")
    show_line("")
    columns = (
        "run",
        "started (UTC)",
        "state",
        "size",
        "sha256",
        "checked by",
        "modified",
        "reason",
    )
    show_table(columns, rows, numeric=("run", "size"))
    versions = len({each["sha256"] for each in chapters if each["sha256"]})
    show_line(f"{count_of(versions, 'version')} in {count_of(len(rows), 'run')}")


def _when(run: RunSummary, *, is_running: bool) -> str:
    """Format when a run took place, in UTC as in the ledger."""
    began = datetime.fromisoformat(run.started)
    if run.ended is None:
        return f"{began:%Y-%m-%d %H:%M} UTC, {'running' if is_running else 'interrupted'}"
    seconds = (datetime.fromisoformat(run.ended) - began).total_seconds()
    return f"{began:%Y-%m-%d %H:%M} UTC, took {format_duration(seconds)}"


def _show(receipt: OpenReceipt, request: ReceiptRequest) -> None:
    run = receipt.summary
    show_line(f"Run {run.run}: {run.command}")
    show_line(_when(run, is_running=request.run_ is None and is_in_use(request.folder)), dim=True)
    if run.note:
        show_line(run.note)
    show_line("")
    left_out = receipt.files - MAX_DRAWN_ROWS
    rows = [*receipt.foremost(MAX_DRAWN_ROWS)]
    cells = [
        [
            str(row.number),
            label_of(row.state),
            row.path,
            "" if row.size is None else format_size(row.size),
            row.verdict or "",
            (row.sha256 or "")[:12],
            row.reason,
        ]
        for row in rows
    ]
    columns = ["no.", "state", "path", "size", "checked by", "sha256", "reason"]
    if not any(row.reason for row in rows):
        columns, cells = columns[:-1], [each[:-1] for each in cells]
    if cells:
        show_table(columns, cells, numeric=("no.", "size"))
    for row in rows:
        if row.note and not row.reason:
            show_line(f"{row.path}: {row.note}")
        elif row.resumed and not row.reason:
            show_line(f"{row.path}: resumed at {format_size(row.resumed)}", dim=True)
    if left_out > 0:
        show_line(
            f"{count_of(left_out, 'more file')}, not shown; files with problems are listed"
            " first, and --csv lists all"
        )
    if run.unpacked:
        _show_unpacked(receipt)
    _show_workers(receipt)
    for step in receipt.steps:
        show_line(step_line(step))
    show_line(f"{counted(receipt.files, run.counts)}; {format_size(run.received)} received")


def _show_workers(receipt: OpenReceipt) -> None:
    for each in receipt.workers:
        show_line(
            f"worker {each.worker}: {count_of(each.files, 'file')},"
            f" {format_size(each.received)}, {format_duration(each.seconds)}"
        )


def _show_unpacked(receipt: OpenReceipt) -> None:
    show_line("unpacked:")
    cells = [
        [each.path, format_size(each.size), each.sha256[:12], name_of(take_inside(each.address)[0])]
        for each in islice(receipt.unpacked(), MAX_DRAWN_ROWS)
    ]
    show_table(("path", "size", "sha256", "from"), cells, numeric=("size",))
    if (more := receipt.summary.unpacked - MAX_DRAWN_ROWS) > 0:
        show_line(f"{count_of(more, 'more file')}, not shown; --json lists all")
