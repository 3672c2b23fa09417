"""Schedules for errands in the formats of cron and systemd.

A crontab line has five fields (POSIX, crontab, EXTENDED DESCRIPTION); a timer has a calendar event
(systemd.time(7)). Both go by the machine's own clock.
"""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from willow_cart.errands.document import read_document
from willow_cart.errors import BadOption, CannotStore
from willow_cart.requests.timetable import TimetableRequest

_DAYS = ("Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat")
_TIME = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)")
_HOW = "write 'daily 06:30', 'Fri 20:30', 'Mon-Fri 07:00', 'Mon,Thu 07:00' or '1 06:00'"


@dataclass(frozen=True, slots=True)
class Timetable:
    """A schedule: a time of every day, of some days of the week, or of a day of the month.

    Attributes:
        hour, minute: by the machine's clock.
        weekdays: their numbers, 0 for Sunday. Empty for all.
        day: of the month, from 1 to 28; None for all.
    """

    hour: int
    minute: int
    weekdays: tuple[int, ...] = ()
    day: int | None = None

    @classmethod
    def parse(cls, text: str) -> Timetable:
        """Parse a schedule such as `Fri 20:30`, `daily 6:00` or `1 06:00`.

        Raises:
            BadOption: it is invalid.
        """
        words = text.split()
        time = _TIME.fullmatch(words[-1]) if words else None
        if time is None or len(words) > 2:
            raise BadOption(f"--at '{text}'", "not a valid time", _HOW)
        hour, minute = int(time[1]), int(time[2])
        days = words[0] if len(words) == 2 else "daily"
        if days.lower() == "daily":
            return cls(hour, minute)
        if days.isdecimal():
            # A day that not every month has would be left out in some.
            if not 1 <= int(days) <= 28:
                raise BadOption(f"--at '{text}'", "not a day of every month", "take 1 to 28")
            return cls(hour, minute, day=int(days))
        try:
            numbers = [number for part in days.split(",") for number in _days_in(part)]
        except ValueError:
            raise BadOption(f"--at '{text}'", "names no day of the week", _HOW) from None
        return cls(hour, minute, tuple(sorted(set(numbers))))

    @property
    def cron(self) -> str:
        """The five time fields of a crontab line."""
        days = ",".join(map(str, self.weekdays)) or "*"
        return f"{self.minute} {self.hour} {self.day or '*'} * {days}"

    @property
    def calendar(self) -> str:
        """The OnCalendar expression of a timer."""
        days = ",".join(_DAYS[number] for number in self.weekdays)
        date = f"*-*-{self.day:02d}" if self.day else "*-*-*"
        return f"{days} {date} {self.hour:02d}:{self.minute:02d}:00".strip()


def _days_in(part: str) -> list[int]:
    first, dash, last = part.partition("-")
    begin = _day(first)
    if not dash:
        return [begin]
    count = (_day(last) - begin) % 7 + 1
    return [(begin + number) % 7 for number in range(count)]


def _day(word: str) -> int:
    return _DAYS.index(word[:3].title())


def crontab_line(when: Timetable, command: Sequence[str], log: Path) -> str:
    """Return a crontab line that appends the output to a log.

    A percent sign would be the end of the command there (crontab(5)).
    """
    words = f"{shlex.join(command)} >>{shlex.quote(str(log))} 2>&1"
    return f"{when.cron} {words.replace('%', chr(92) + '%')}"


def units(when: Timetable, command: Sequence[str], name: str, log: Path) -> dict[str, str]:
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


@dataclass(frozen=True, slots=True)
class TimetableEntry:
    """Everything needed to run an errand on a schedule.

    Attributes:
        line: of a crontab.
        mark: the line above it, by which it is found again.
        timer: the name of the timer among the units.
        units: of systemd, by the names of their files.
        variables: environment variables that the errand names.
    """

    line: str
    mark: str
    timer: str
    units: Mapping[str, str]
    variables: Sequence[str]


def make_entry(request: TimetableRequest, program: Sequence[str]) -> TimetableEntry:
    """Make the schedule of an errand.

    Args:
        request: the errand, and when.
        program: what starts this program, from wherever and with whatever search path.

    Raises:
        BadOption: the time or the errand cannot be read.
    """
    when = Timetable.parse(request.at)
    read_document(request.file)  # one that cannot be read would fail every night
    path = request.file.resolve()
    if not str(path).isprintable():
        raise BadOption(
            repr(str(path)), "has characters that a timetable cannot hold", "rename the errand"
        )
    log, summary = path.with_suffix(".log"), path.with_suffix(".last.txt")
    command = [*program, "errand", str(path), "--summary", str(summary)]
    name = re.sub(r"[^\w.-]+", "-", path.stem)
    return TimetableEntry(
        crontab_line(when, command, log),
        f"{_MARK} {path}",
        f"errand-{name}.timer",
        units(when, command, name, log),
        _variables_in(path.read_text("utf-8")),
    )


def _variables_in(text: str) -> list[str]:
    """Return the environment variables that an errand refers to."""
    return sorted({name for names in _VARIABLES.findall(text) for name in names if name})


def install(entry: TimetableEntry) -> None:
    """Add a line to the user's crontab, replacing an earlier one for the same errand.

    Raises:
        BadOption: no cron here.
        CannotStore: it would not take it.
    """
    if shutil.which("crontab") is None:
        raise BadOption(
            "--install", "cron is not installed", "use the timer that is printed without"
        )
    listed = subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False)  # noqa: S607
    lines = listed.stdout.splitlines() if listed.returncode == 0 else []
    if entry.mark in lines:
        place = lines.index(entry.mark)
        del lines[place : place + 2]
    content = "".join(f"{each}\n" for each in [*lines, entry.mark, entry.line])
    done = subprocess.run(["crontab", "-"], input=content, text=True, capture_output=True,  # noqa: S607
                          check=False)  # fmt: skip
    if done.returncode:
        raise CannotStore("your crontab", f"cannot be written: {done.stderr.strip()}", "see cron")
