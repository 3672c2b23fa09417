"""`audit`: check the files in a folder."""

from __future__ import annotations

import sys
from itertools import chain

from willow_cart.auditing import Audited, Finding, Findings
from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_csv, show_line, show_table, show_text
from willow_cart.commands.audit import AuditRequest, audit, repair
from willow_cart.units import count_of, format_size, json_text
from willow_cart.views.words import counted


def run(request: AuditRequest) -> int:
    """Audit a folder, print the result, and repair it if requested."""
    console = Console()
    audited = audit(request, console)
    found = audited.found
    if request.json:
        _show_json(found)
    elif request.csv:
        names = ("path", "finding", "why", "size", "url")
        show_csv(chain([names], (_facts(each).values() for each in found)))
    else:
        _show(found)
    if request.repair and audited.harmed:
        account = repair(request, audited, console)
        show_line(counted(account.planned, account.counts))
        sys.stdout.flush()
        return account.exit_code
    return audited.exit_code


def _facts(each: Audited) -> dict[str, object]:
    return {
        "path": each.path,
        "finding": str(each.finding),
        "why": each.why,
        "size": each.size,
        "url": each.url,
    }


def _show_json(found: Findings) -> None:
    before = "["
    for each in found:
        show_text(before)
        text = json_text(_facts(each), indent=2)
        show_text("  " + text.replace("\n", "\n  "), end="")
        before = ","
    show_text("\n]" if len(found) else "[]")


def _show(found: Findings) -> None:

    rows = [
        (str(each.finding), each.path, format_size(each.size) if each.size else "", each.why)
        for finding in Finding
        if finding is not Finding.UNCHANGED
        for each in found.of(finding)
    ]
    if rows:
        show_table(("state", "path", "size", "details"), rows, numeric=("size",))
    counts = found.counts
    told = [f"{counts[each]:,} {each}" for each in Finding if counts[each]]
    if len(told) == 1 and len(found) > 1:
        told = [f"all {each}" for each in Finding if counts[each]]
    size = format_size(found.size)
    show_line(f"{count_of(len(found), 'file')}, {size}: {', '.join(told) or 'nothing to check'}")
