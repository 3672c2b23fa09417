"""The requests of commands about the program itself."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.option import OVERWRITE, Request, argument, flag, option
from willow_cart.options.readers import port


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


class DemoRequest(Request):
    """A request to run the demo."""

    command = "demo"

    into: Path | None = option(
        None,
        Path,
        "folder for the example (a new temporary folder, which is kept)",
        metavar="DIR",
    )
    serve: bool = flag("only start the servers, and keep them running")
    port: int = option(
        0, port, "port of the web server, with --serve (8031 if it is free)", metavar="N"
    )


class CompletionRequest(Request):
    """A request for a completion script."""

    command = "completion"

    shell: str = argument("", str, "the shell: bash, zsh or fish", choices=("bash", "zsh", "fish"))


class HelpRequest(Request):
    """A request for the guide."""

    command = "help"

    topic: tuple[str, ...] = argument(
        (),
        str,
        "a topic, such as errands, or words to look for: slow server",
        metavar="WORD",
        nargs="*",
    )
