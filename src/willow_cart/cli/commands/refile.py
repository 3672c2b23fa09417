"""`refile`: move hauled files to a new layout."""

from __future__ import annotations

from willow_cart.cli.render import show_plan
from willow_cart.cli.screen import show_line, tell
from willow_cart.commands.refile import RefileRequest, refile
from willow_cart.errors import Exit
from willow_cart.units import count_of


def run(request: RefileRequest) -> int:
    """Move the files, or show where they would go."""
    found = refile(request)
    for path in found.staying:
        tell(f"{path}: missing or changed; not moved (run willow-cart audit for details)")
    files = count_of(len(found.refiled.plan), "file")
    if found.preview:
        show_plan(found.refiled.plan, request.folder)
        show_line(f"{files}: {len(found.moves):,} to move; nothing was moved")
    else:
        show_line(f"{files}: {len(found.moves):,} moved")
    if not request.has_rule and not request.preview:
        tell(
            f"{request.folder}: no --layout or --file-as given, so nothing was moved; this is what"
            f" --layout {request.filing.layout} would do"
        )
        return Exit.NOT_UNDERSTOOD
    return found.exit_code
