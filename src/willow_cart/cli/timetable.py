"""`timetable`: have an errand run by itself."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from pathlib import Path

from willow_cart.cli.screen import show_line
from willow_cart.cli.telling import tell
from willow_cart.errands import read_document
from willow_cart.errands.timetable import Timetable, crontab_line, units
from willow_cart.errors import BadOption, CannotStore
from willow_cart.exits import Exit
from willow_cart.jobs.timetable import TimetableRequest

# The line above ours in a crontab says whose it is, so that it can be found again.
_MARK = "# willow-cart errand"

_VARIABLES = re.compile(
    r"\{env\[(\w+)\]\}|^\s*\w+_env\s*=\s*[\"'](\w+)|[\"']env:(\w+)", re.MULTILINE
)


def run(request: TimetableRequest) -> int:
    """Print or install a timetable."""
    when = Timetable.parse(request.at)
    read_document(request.file)  # one that cannot be read would fail every night
    path = request.file.resolve()
    if not str(path).isprintable():
        raise BadOption(
            repr(str(path)), "has characters that a timetable cannot hold", "rename the errand"
        )
    log = path.with_suffix(".log")
    summary = path.with_suffix(".last.txt")
    command = [*_program(), "errand", str(path), "--summary", str(summary)]
    line = crontab_line(when, command, log)
    if names := _variables_in(path.read_text("utf-8")):
        tell(
            f"{request.file}: needs {', '.join(names)} in the environment, which has little in it"
            " at night; keep secrets in files (password_file), or set them there"
        )
    if request.install:
        _install(f"{_MARK} {path}", line)
        show_line(f"in your crontab: {line}")
        return Exit.GOOD
    shown = ["# For a crontab (crontab -e), or with --install:", line]
    for name, text in units(when, command, _name(path), log).items():
        shown += ["", f"# ~/.config/systemd/user/{name}", *text.splitlines()]
    shown += ["", f"# then: systemctl --user enable --now errand-{_name(path)}.timer"]
    for each in shown:
        show_line(each)
    return Exit.GOOD


def _program() -> list[str]:
    """What starts this program, from wherever and with whatever search path."""
    started = Path(sys.argv[0])
    if started.name == "willow-cart" and started.is_file():
        return [str(started.resolve())]
    return [sys.executable, "-m", "willow_cart"]


def _name(path: Path) -> str:
    return re.sub(r"[^\w.-]+", "-", path.stem)


def _variables_in(text: str) -> list[str]:
    """The environment variables that an errand names."""
    return sorted({name for names in _VARIABLES.findall(text) for name in names if name})


def _install(mark: str, line: str) -> None:
    """Put a line into the person's crontab, in place of the one that bears the same mark.

    Raises:
        BadOption: there is no cron here.
        CannotStore: it would not take it.
    """
    if shutil.which("crontab") is None:
        raise BadOption("--install", "finds no cron here", "use the timer that is printed without")
    listed = subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False)  # noqa: S607
    lines = listed.stdout.splitlines() if listed.returncode == 0 else []
    if mark in lines:
        place = lines.index(mark)
        del lines[place : place + 2]
    content = "".join(f"{each}\n" for each in [*lines, mark, line])
    done = subprocess.run(["crontab", "-"], input=content, text=True, capture_output=True,  # noqa: S607
                          check=False)  # fmt: skip
    if done.returncode:
        raise CannotStore("your crontab", f"cannot be written: {done.stderr.strip()}", "see cron")
