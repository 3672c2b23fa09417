"""`audit`: check the files in a folder."""

from __future__ import annotations

import sys
from itertools import chain

from willow_cart.auditing import Finding, Findings
from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_csv, show_line, show_table, show_text
from willow_cart.commands.audit import Audit, AuditRequest, audit, repair
from willow_cart.commands.result import counted
from willow_cart.units import count_of, format_size, json_text


def run(request: AuditRequest) -> int:
    """Audit a folder, print the result, and repair it if requested."""
    console = Console()
    audited = audit(request, console)
    found = audited.found
    if request.json:
        _show_json(audited)
    elif request.csv:
        show_csv(chain([audited.columns], audited.records()))
    else:
        _show(found)
    if request.repair and audited.harmed:
        account = repair(request, audited, console)
        show_line(counted(account.planned, account.counts))
        sys.stdout.flush()
        return account.exit_code
    return audited.exit_code


def _show_json(audited: Audit) -> None:
    before = "["
    for row in audited.records():
        show_text(before)
        text = json_text(dict(zip(audited.columns, row, strict=True)), indent=2)
        show_text("  " + text.replace("\n", "\n  "), end="")
        before = ","
    show_text("\n]" if len(audited.found) else "[]")


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
