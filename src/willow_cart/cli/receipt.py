"""`receipt`: the account of a haul."""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, fields
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

from willow_cart.addresses import name_of
from willow_cart.cart import cover
from willow_cart.cli.screen import MOST_DRAWN, show_line, show_table
from willow_cart.cli.telling import counted, tell
from willow_cart.errors import BadOption
from willow_cart.exits import Exit
from willow_cart.jobs.receipt import ReceiptRequest
from willow_cart.model import State
from willow_cart.records import Ledger, Row, ledger_path, open_receipt, read_runs, read_story
from willow_cart.records.bags import write_bag
from willow_cart.records.manifests import Manifest
from willow_cart.units import count_of, format_duration, format_size

if TYPE_CHECKING:
    from willow_cart.records import Chapter, OpenReceipt, RunSummary

# What is told of a file that came out of an archive.
_OF_MEMBER = ("path", "address", "time", "size", "sha256", "archive", "verdict")


def run(request: ReceiptRequest) -> int:
    """Read the receipt and show it."""
    _require_one_haul(request)
    if request.bag is not None:
        return _write_bag(request.folder, request.bag)
    if request.manifest:
        return _write_manifest(request.folder, request.manifest)
    if request.html is not None:
        return _write_page(request.folder, request.html, request.run_, overwrite=request.overwrite)
    if request.runs:
        return _list(request, [*map(_run_facts, read_runs(request.folder))])
    if request.of is not None:
        return _list(request, [*map(_chapter_facts, read_story(request.folder, request.of))])
    with open_receipt(request.folder, request.run_) as receipt:
        if request.json:
            _write_json(receipt)
        elif request.csv:
            _write_csv(map(_as_dict, receipt.rows()), [field.name for field in fields(Row)])
        else:
            _show(receipt)
    return Exit.GOOD


def _require_one_haul(request: ReceiptRequest) -> None:
    """Refuse forms that cannot show what is asked for, rather than show something else.

    Raises:
        BadOption: they cannot.
    """
    several = "--runs" if request.runs else "--of" if request.of is not None else ""
    form = "--html" if request.html is not None else ""
    for option, given in (("--manifest", request.manifest), ("--bag", request.bag)):
        if given is not None:
            form, several = option, several or ("--run" if request.run_ else "")
    if several and form:
        raise BadOption(f"{several} {form}", "do not go together", "leave one of them out")


def _write_bag(folder: Path, bag: Path) -> int:

    notes = "; ".join(run.note for run in read_runs(folder) if run.note)
    with Ledger(ledger_path(folder)) as ledger:
        files = write_bag(folder, ledger.latest_arrivals(), bag, notes)
    show_line(f"{count_of(files, 'file')} in the bag {bag}")
    return Exit.GOOD


def _write_page(folder: Path, page: Path, number: int | None, *, overwrite: bool) -> int:
    from willow_cart.report import write_page

    write_page(folder, page, number, overwrite=overwrite)
    tell(f"written to {page}")
    return Exit.GOOD


def _write_manifest(folder: Path, form: str) -> int:

    with Ledger(ledger_path(folder)) as ledger:
        for line in Manifest(form).lines(ledger):
            print(line)
    return Exit.GOOD


def _write_json(receipt: OpenReceipt) -> None:
    """One object, with a line for each file; never in memory as a whole."""
    print(json.dumps(_run_facts(receipt.summary), ensure_ascii=False, indent=2)[:-2], end="")
    _write_json_list("files", map(_as_dict, receipt.rows()))
    members = ({name: getattr(each, name) for name in _OF_MEMBER} for each in receipt.unpacked())
    _write_json_list("members", members)
    print("\n}")


def _write_json_list(name: str, entries: Iterable[object]) -> None:
    print(f',\n  "{name}": [', end="")
    comma = ""
    for entry in entries:
        print(f"{comma}\n    {json.dumps(entry, ensure_ascii=False)}", end="")
        comma = ","
    print("\n  ]", end="")


def _as_dict(row: Row) -> dict[str, object]:
    return {name: getattr(row, name) for name in row.__slots__}


def _write_csv(rows: Iterable[Mapping[str, object]], columns: Sequence[str]) -> None:

    writer = csv.writer(sys.stdout)
    writer.writerow(columns)
    for row in rows:
        writer.writerow("" if cell is None else cover(str(cell)) for cell in row.values())


def _run_facts(run: RunSummary) -> dict[str, object]:
    return {**asdict(run), "counts": {str(state): count for state, count in run.counts.items()}}


def _chapter_facts(chapter: Chapter) -> dict[str, object]:
    return {"run": chapter.run, "started": chapter.started, **asdict(chapter.row)}


def _flat(row: Mapping[str, Any]) -> dict[str, object]:
    """A row for a table: counts, where there are any, as columns of their own."""
    flat = {name: value for name, value in row.items() if name != "counts"}
    if "counts" in row:
        flat |= {str(state): row["counts"].get(state, 0) for state in State}
    return flat


def _list(request: ReceiptRequest, rows: list[dict[str, object]]) -> int:
    """Show runs, or the chapters of a file's story."""
    if request.json:
        print(json.dumps(rows, ensure_ascii=False, indent=2))
    elif request.csv:
        flat = [*map(_flat, rows)]
        _write_csv(flat, [*flat[0]])
    elif request.runs:
        _show_runs(rows)
    else:
        _show_story(rows)
    return Exit.GOOD


def _show_runs(runs: Sequence[Mapping[str, Any]]) -> None:

    rows = []
    for run in runs:
        counts = ", ".join(f"{count:,} {state}" for state, count in run["counts"].items())
        code = "cut off" if run["exit_code"] is None else str(run["exit_code"])
        when = f"{datetime.fromisoformat(run['started']):%Y-%m-%d %H:%M}"
        words = f"{run['note']} | {run['command']}" if run["note"] else run["command"]
        received = format_size(run["received"])
        rows.append((str(run["run"]), when, code, counts, received, words))
    columns = ("run", "begun (UTC)", "exit code", "files", "received", "command")
    show_table(columns, rows, numeric=("run", "received"))
    show_line(count_of(len(rows), "run"))


def _show_story(chapters: Sequence[Mapping[str, Any]]) -> None:
    rows = [
        (
            str(each["run"]), f"{datetime.fromisoformat(each['started']):%Y-%m-%d %H:%M}",
            each["state"], "" if each["size"] is None else format_size(each["size"]),
            (each["sha256"] or "")[:12], each["verdict"] or "", each["last_modified"] or "",
            each["reason"],
        )
        for each in chapters
    ]  # fmt: skip
    last = chapters[-1]
    show_line(f"{last['path']}, from {last['address']}")
    show_line("")
    columns = ("run", "begun (UTC)", "state", "size", "sha256", "checked by", "dated", "why")
    show_table(columns, rows, numeric=("run", "size"))
    versions = len({each["sha256"] for each in chapters if each["sha256"]})
    show_line(f"{count_of(versions, 'version')} in {count_of(len(rows), 'run')}")


def _when(run: RunSummary) -> str:
    """When a run was, for people: in UTC, as the ledger has it."""
    began = datetime.fromisoformat(run.started)
    if run.ended is None:
        return f"{began:%Y-%m-%d %H:%M} UTC, cut off before its end"
    seconds = (datetime.fromisoformat(run.ended) - began).total_seconds()
    return f"{began:%Y-%m-%d %H:%M} UTC, took {format_duration(seconds)}"


def _show(receipt: OpenReceipt) -> None:

    run = receipt.summary
    show_line(f"Run {run.run}: {run.command}")
    show_line(_when(run), dim=True)
    if run.note:
        show_line(run.note)
    show_line("")
    left_out = receipt.files - MOST_DRAWN
    rows = [*receipt.foremost(MOST_DRAWN)]
    cells = [
        [
            str(row.number),
            row.state,
            row.path,
            "" if row.size is None else format_size(row.size),
            row.verdict or "",
            (row.sha256 or "")[:12],
        ]
        for row in rows
    ]
    columns = ("no.", "state", "path", "size", "checked by", "sha256")
    if cells:
        show_table(columns, cells, numeric=("no.", "size"))
    for row in rows:
        if row.reason:
            show_line(f"{row.path}: {row.reason}")
        elif row.note:
            show_line(f"{row.path}: {row.note}")
        elif row.resumed:
            show_line(f"{row.path}: resumed at {format_size(row.resumed)}", dim=True)
    if left_out > 0:
        show_line(
            f"{count_of(left_out, 'more file')}, not shown here; those with trouble come first, and"
            " --csv has them all"
        )
    if run.unpacked:
        _show_unpacked(receipt)
    show_line(f"{counted(receipt.files, run.counts)}; {format_size(run.received)} received")


def _show_unpacked(receipt: OpenReceipt) -> None:

    show_line("unpacked:")
    cells = [
        [each.path, format_size(each.size), each.sha256[:12], name_of(each.archive_address)]
        for each in islice(receipt.unpacked(), MOST_DRAWN)
    ]
    show_table(("path", "size", "sha256", "from"), cells, numeric=("size",))
    if (more := receipt.summary.unpacked - MOST_DRAWN) > 0:
        show_line(f"{count_of(more, 'more file')}, not shown here; --json has them all")
