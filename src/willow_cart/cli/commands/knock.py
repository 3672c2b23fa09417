"""`knock`: test a server."""

from __future__ import annotations

from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_line, show_table, show_text
from willow_cart.commands.knock import KnockRequest, knock
from willow_cart.structs import to_builtins
from willow_cart.units import json_text


def run(request: KnockRequest) -> int:
    """Test a server and print the findings."""
    done = knock(request, Console())
    if request.json:
        facts = [to_builtins(finding) for finding in done.findings]
        show_text(json_text(facts, indent=2))
        return done.exit_code
    rows = [(each.tried, str(each.verdict), each.found) for each in done.findings]
    show_table(("step", "result", "details"), rows)
    for finding in done.findings:
        if finding.remedy:
            show_line(f"{finding.tried}: {finding.remedy}")
    show_line(done.summary)
    return done.exit_code
