"""Schedules for errands in the formats of cron and systemd; those of other systems next to them.

A crontab line has five fields (POSIX, crontab, EXTENDED DESCRIPTION); a timer has a calendar event
(systemd.time(7)). Both go by the machine's own clock.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

from willow_cart.commands.program import TimetableRequest
from willow_cart.errands.job import read_document
from willow_cart.errands.system_tasks import Schedule, is_ours, launchd_agent, windows_task
from willow_cart.errors import BadOption, CannotStore
from willow_cart.platform.own_folders import state_folder
from willow_cart.replacing import replacing_bytes
from willow_cart.structs import Value


def crontab_line(when: Schedule, command: Sequence[str], log: Path) -> str:
    """Return a crontab line that appends the output to a log.

    A percent sign would be the end of the command there (crontab(5)).
    """
    words = f"{shlex.join(command)} >>{shlex.quote(str(log))} 2>&1"
    return f"{when.cron} {words.replace('%', chr(92) + '%')}"


def units(when: Schedule, command: Sequence[str], name: str, log: Path) -> dict[str, str]:
    """Return the systemd units by file name, for `systemctl --user`.

    A run that was missed while the machine was off is made up for once, however many there were.
    """
    words = " ".join(_word(word) for word in command)
    service = (
        f"[Unit]\nDescription=Errand {name}\n\n[Service]\nType=oneshot\nExecStart={words}\n"
        f"StandardOutput=append:{_path(log)}\nStandardError=inherit\n"
    )
    timer = (
        f"[Unit]\nDescription=When errand {name} is run\n\n[Timer]\nOnCalendar={when.calendar}\n"
        "Persistent=true\n\n[Install]\nWantedBy=timers.target\n"
    )
    return {f"errand-{name}.service": service, f"errand-{name}.timer": timer}


def _word(word: str) -> str:
    """Quote a word of a command line (systemd.service(5), COMMAND LINES)."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{escaped}"' if re.search(r"[^\w@%+=:,./-]", word) else escaped


def _path(path: Path) -> str:
    return str(path).replace("%", "%%")


# The line above ours in a crontab says whose it is, so that it can be found again.
_MARK = "# willow-cart errand"

_VARIABLES = re.compile(
    r"\{env\[(\w+)\]\}|^\s*\w+_env\s*=\s*[\"'](\w+)|[\"']env:(\w+)", re.MULTILINE
)


class TimetableEntry(Value):
    """Everything needed to run an errand on a schedule.

    Attributes:
        line: of a crontab.
        mark: the line above it, by which it is found again.
        timer: the name of the timer among the units.
        units: of systemd, by the names of their files.
        variables: environment variables that the errand names.
        files: schedules for other systems, by the files that were asked for.
    """

    line: str
    mark: str
    timer: str
    units: Mapping[str, str]
    variables: Sequence[str]
    files: Mapping[Path, bytes]


def make_entry(request: TimetableRequest, program: Sequence[str]) -> TimetableEntry:
    """Make the schedule of an errand.

    Args:
        request: the errand, and when.
        program: what starts this program, from wherever and with whatever search path.

    Raises:
        BadOption: the time or the errand cannot be read.
    """
    when = Schedule.parse(request.at)
    read_document(request.file)  # one that cannot be read would fail every night
    path = request.file.resolve()
    # A backslash before a percent sign ends the command in a crontab, however it is quoted.
    if not str(path).isprintable() or "\\%" in str(path):
        raise BadOption(
            repr(str(path)), "has characters that a timetable cannot hold", "rename the errand"
        )
    log, summary = path.with_suffix(".log"), path.with_suffix(".last.txt")
    command = [*program, "errand", str(path), "--summary", str(summary)]
    name = re.sub(r"[^\w.-]+", "-", path.stem)
    files = {}
    if request.windows_task is not None:
        files[request.windows_task] = windows_task(when, command, path.parent)
    if request.launchd_agent is not None:
        files[request.launchd_agent] = launchd_agent(when, command, name, log)
    return TimetableEntry(
        crontab_line(when, command, log),
        f"{_MARK} {path}",
        f"errand-{name}.timer",
        units(when, command, name, log),
        _variables_in(path.read_text("utf-8")),
        files,
    )


def _variables_in(text: str) -> list[str]:
    """Return the environment variables that an errand refers to."""
    return sorted({name for names in _VARIABLES.findall(text) for name in names if name})


def write_files(entry: TimetableEntry, *, overwrite: bool = False) -> None:
    """Write the schedules for other systems.

    Raises:
        BadOption: a file of another program is there.
        CannotStore: one cannot be written.
    """
    for path, content in entry.files.items():
        with replacing_bytes(path, is_ours=is_ours, overwrite=overwrite) as file:
            file.write(content)


def install(entry: TimetableEntry) -> Path | None:
    """Add a line to the user's crontab, replacing an earlier one for the same errand.

    Returns:
        Where a copy of the crontab as it was before is kept; None if there was none.

    Raises:
        BadOption: no cron here.
        CannotStore: it cannot be read, or would not take it; it is as it was.
    """
    if shutil.which("crontab") is None:
        raise BadOption(
            "--install", "cron is not installed", "use the timer that is printed without"
        )
    before = _read_crontab()
    kept = None if before is None else _keep_copy(before)
    lines = (before or b"").split(b"\n")
    if lines and not lines[-1]:
        lines.pop()
    mark, line = (os.fsencode(each) for each in (entry.mark, entry.line))
    if mark in lines:
        at = lines.index(mark)
        # The line below is ours only if it runs this errand: it may have been edited.
        own = 2 if _runs_same(lines[at + 1 : at + 2], line) else 1
        del lines[at : at + own]
    content = b"".join(each + b"\n" for each in [*lines, mark, line])
    done = subprocess.run(["crontab", "-"], input=content, capture_output=True, check=False)  # noqa: S607
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip()
        raise CannotStore(_CRONTAB, f"cannot be written: {said}", "see cron")
    after = _read_crontab()
    if after is None or not {*lines, mark, line} <= {*after.split(b"\n")}:
        advice = "look at crontab -l" if kept is None else f"restore it: crontab {kept}"
        raise CannotStore(_CRONTAB, "is not what was written", advice)
    return kept


_CRONTAB = "your crontab"

# What different programs say if a user has none yet.
_NONE_YET = re.compile(rb"no crontab for|can't open '[^']*': No such file", re.IGNORECASE)


def _read_crontab() -> bytes | None:
    """Return the user's crontab; None if there is none.

    Raises:
        CannotStore: it cannot be read, so that it must not be replaced.
    """
    listed = subprocess.run(
        ["crontab", "-l"],  # noqa: S607
        capture_output=True,
        check=False,
        env={**os.environ, "LC_ALL": "C"},
    )
    if listed.returncode == 0:
        return listed.stdout
    if _NONE_YET.search(listed.stderr) and not listed.stdout:
        return None
    said = listed.stderr.decode("utf-8", "replace").strip() or f"exit code {listed.returncode}"
    raise CannotStore(
        _CRONTAB, f"cannot be read: {said}", "it was left as it is; add the line with crontab -e"
    )


def _keep_copy(crontab: bytes) -> Path:
    """Keep a copy of the crontab, in place of an earlier one; return its path.

    Raises:
        CannotStore: it cannot be written.
    """
    kept = state_folder() / "crontab.before"
    kept.parent.mkdir(parents=True, exist_ok=True)
    with replacing_bytes(kept) as file:
        file.write(crontab)
    return kept


def _runs_same(lines: Sequence[bytes], line: bytes) -> bool:
    """Whether a line of a crontab runs the errand of another, whenever and however."""
    errand = line.partition(b" errand ")[2].partition(b" --summary ")[0]
    return any(b" errand " + errand + b" " in each for each in lines)
