"""The request of `timetable`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.option import argument, flag, option
from willow_cart.options.shared import OVERWRITE
from willow_cart.requests.request import Request


class TimetableRequest(Request):
    """A request for a schedule."""

    command = "timetable"

    file: Path = argument(Path(), Path, "the errand", metavar="FILE")
    at: str = option(
        "",
        str,
        "when: 'daily 06:30', 'Fri 20:30', 'Mon-Fri 07:00', or a day of the month: '1 06:00'",
        metavar="WHEN",
        required=True,
    )
    install: bool = flag("add the line to your crontab")
    windows_task: Path | None = option(
        None, Path, "write a task for the Windows scheduler: schtasks /Create /XML", metavar="FILE"
    )
    launchd_agent: Path | None = option(
        None, Path, "write a property list for launchd on macOS", metavar="FILE"
    )
    overwrite: bool = OVERWRITE
