"""`knock`: test a place."""

from __future__ import annotations

import json
from dataclasses import asdict

from willow_cart.addresses import normalise
from willow_cart.cli.connecting import make_access
from willow_cart.cli.screen import show_line, show_table
from willow_cart.exits import Exit
from willow_cart.jobs.knock import KnockRequest
from willow_cart.jobs.reaching_policies import make_context
from willow_cart.redaction import without_secrets
from willow_cart.sources.knock import Knocker, Verdict


def run(request: KnockRequest) -> int:
    """Knock, and show what was found."""
    address = normalise(request.sources[0])
    with make_access([request], lanes_per_host=2) as access:
        signed = bool(
            request.user or request.token or request.header or request.cookies or request.sign_in
        )
        knocker = Knocker(access, make_context(request), signed)
        findings = list(knocker.knock(address))
    failed = any(finding.verdict is Verdict.FAILED for finding in findings)
    if request.json:
        print(json.dumps([asdict(finding) for finding in findings], ensure_ascii=False, indent=2))
    else:
        rows = [(each.tried, str(each.verdict), each.found) for each in findings]
        show_table(("tried", "state", "found"), rows)
        for finding in findings:
            if finding.remedy:
                show_line(f"{finding.tried}: {finding.remedy}")
        outcome = "something does not work" if failed else "it can be hauled from"
        show_line(f"{without_secrets(address)}: {outcome}")
    return Exit.INCOMPLETE if failed else Exit.GOOD
