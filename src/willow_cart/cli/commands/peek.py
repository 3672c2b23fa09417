"""`peek`: look into files before they are hauled."""

from __future__ import annotations

from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_line, show_table, show_text
from willow_cart.commands.peek import (
    PeekRequest,
    facts_line,
    fetched_line,
    headline,
    peek,
    shown_table,
)
from willow_cart.peeking.peek import Peeked
from willow_cart.redaction import without_secrets
from willow_cart.units import json_text


def run(request: PeekRequest) -> int:
    """Look into files and print their content."""
    done = peek(request, Console())
    if request.json:
        show_text(json_text([*map(_as_json, done.files)], indent=1))
        return done.exit_code
    for number, peeked in enumerate(done.files):
        if number:
            show_line("")
        _show(peeked)
    return done.exit_code


def _show(peeked: Peeked) -> None:
    content = peeked.content
    show_line(headline(peeked))
    if facts := facts_line(content):
        show_line(facts)
    if content.columns:
        show_line("")
        show_table(*shown_table(content))
    for note in content.notes:
        show_line(note)
    show_line(fetched_line(peeked), dim=True)


def _as_json(peeked: Peeked) -> dict[str, object]:
    content = peeked.content
    return {
        "address": without_secrets(peeked.address),
        "name": peeked.name,
        "size": peeked.size,
        "modified": peeked.modified.isoformat() if peeked.modified else None,
        "media_type": peeked.media_type,
        "form": content.form,
        "facts": content.facts,
        "columns": [{"name": each.name, "type": each.type} for each in content.columns],
        "rows": content.rows,
        "row_kind": content.row_kind,
        "notes": content.notes,
        "bytes_fetched": peeked.fetched,
    }
