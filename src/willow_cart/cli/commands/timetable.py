"""`timetable`: schedule an errand."""

from __future__ import annotations

import sys
from pathlib import Path

from willow_cart.cli.screen import show_line, tell
from willow_cart.commands.program import TimetableRequest
from willow_cart.errands.timetable import install, make_entry, write_files
from willow_cart.errors import Exit


def run(request: TimetableRequest) -> int:
    """Print or install a schedule."""
    entry = make_entry(request, _program())
    if entry.variables:
        tell(
            f"{request.file}: uses the environment variable"
            f"{'s' if len(entry.variables) > 1 else ''} {', '.join(entry.variables)}, which"
            " schedulers such as cron do not set; set them there, or refer to a file: file:PATH"
        )
    if entry.files:
        write_files(entry, overwrite=request.overwrite)
        for path in entry.files:
            tell(f"written to {path}")
        return Exit.GOOD
    if request.install:
        if (kept := install(entry)) is not None:
            tell(f"the crontab as it was before: {kept}")
        show_line(f"in your crontab: {entry.line}")
        return Exit.GOOD
    shown = ["# For a crontab (crontab -e), or with --install:", entry.line]
    for name, text in entry.units.items():
        shown += ["", f"# ~/.config/systemd/user/{name}", *text.splitlines()]
    shown += ["", f"# then: systemctl --user enable --now {entry.timer}"]
    for each in shown:
        show_line(each)
    return Exit.GOOD


def _program() -> list[str]:
    """Return the command line that starts this program from any directory."""
    started = Path(sys.argv[0])
    if started.name == "willow-cart" and started.is_file():
        return [str(started.resolve())]
    return [sys.executable, "-m", "willow_cart"]
