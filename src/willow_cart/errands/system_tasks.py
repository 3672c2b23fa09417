"""Schedules for errands in the formats of Windows and macOS.

The Windows scheduler reads tasks in XML ([MS-TSCH], 2.5); launchd on macOS reads property lists
(launchd.plist(5)). Both make up for a run that was missed while the machine was off or asleep.
"""

from __future__ import annotations

import plistlib
import re
import subprocess
from collections.abc import Sequence
from pathlib import Path

from lxml import etree

from willow_cart.errors import BadOption
from willow_cart.structs import Value

_DAYS = ("Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat")
_TIME = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)")
_HOW = "write 'daily 06:30', 'Fri 20:30', 'Mon-Fri 07:00', 'Mon,Thu 07:00' or '1 06:00'"


class Schedule(Value):
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
    def parse(cls, text: str) -> Schedule:
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


MARK = "An errand of willow-cart"
"""What says in such a file whose it is."""

_TASKS = "http://schemas.microsoft.com/windows/2004/02/mit/task"
_WEEKDAYS = ("Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday")
_MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September",
    "October", "November", "December",
)  # fmt: skip

# A trigger has to begin on some day; this one is past for every errand.
_BEGINNING = "2026-01-01"


def windows_task(when: Schedule, command: Sequence[str], folder: Path) -> bytes:
    """Return a task for the Windows scheduler, which `schtasks /Create /XML FILE` takes.

    Args:
        when: the schedule.
        command: the program and its arguments.
        folder: where it is started.
    """
    task = etree.Element("Task", xmlns=_TASKS, version="1.2")
    _text(_below(task, "RegistrationInfo"), "Description", f"{MARK}: {folder}")
    trigger = _below(_below(task, "Triggers"), "CalendarTrigger")
    _text(trigger, "StartBoundary", f"{_BEGINNING}T{when.hour:02d}:{when.minute:02d}:00")
    if when.day is not None:
        month = _below(trigger, "ScheduleByMonth")
        _text(_below(month, "DaysOfMonth"), "Day", str(when.day))
        months = _below(month, "Months")
        for name in _MONTHS:
            _below(months, name)
    elif when.weekdays:
        week = _below(trigger, "ScheduleByWeek")
        _text(week, "WeeksInterval", "1")
        days = _below(week, "DaysOfWeek")
        for number in when.weekdays:
            _below(days, _WEEKDAYS[number])
    else:
        _text(_below(trigger, "ScheduleByDay"), "DaysInterval", "1")
    settings = _below(task, "Settings")
    _text(settings, "MultipleInstancesPolicy", "IgnoreNew")
    _text(settings, "DisallowStartIfOnBatteries", "false")
    _text(settings, "StopIfGoingOnBatteries", "false")
    _text(settings, "StartWhenAvailable", "true")
    _text(settings, "ExecutionTimeLimit", "PT0S")  # a long haul is not cut off
    action = _below(_below(task, "Actions"), "Exec")
    _text(action, "Command", command[0])
    _text(action, "Arguments", subprocess.list2cmdline(command[1:]))
    _text(action, "WorkingDirectory", str(folder))
    written = etree.tostring(task, xml_declaration=True, encoding="UTF-16", pretty_print=True)
    assert isinstance(written, bytes), "it is encoded"
    return written


def launchd_agent(when: Schedule, command: Sequence[str], name: str, log: Path) -> bytes:
    """Return a property list for `~/Library/LaunchAgents`.

    Args:
        when: the schedule.
        command: the program and its arguments.
        name: of the errand.
        log: gets what the program prints.
    """
    moment = {"Hour": when.hour, "Minute": when.minute}
    if when.day is not None:
        moments: object = moment | {"Day": when.day}
    elif when.weekdays:
        moments = [moment | {"Weekday": number} for number in when.weekdays]
    else:
        moments = moment
    content = {
        "Label": f"willow-cart.errand.{re.sub(r'[^A-Za-z0-9.-]+', '-', name)}",
        "ProgramArguments": [*command],
        "StartCalendarInterval": moments,
        "WorkingDirectory": str(log.parent),
        "StandardOutPath": str(log),
        "StandardErrorPath": str(log),
        "EnvironmentVariables": {"WILLOW_CART_ERRAND": MARK},
    }
    return plistlib.dumps(content, sort_keys=False)


def is_ours(content: bytes) -> bool:
    """Whether a file holds such a schedule, in either format."""
    return MARK.encode("ascii") in content or MARK.encode("utf-16-le") in content


def _below(parent: etree._Element, name: str) -> etree._Element:
    return etree.SubElement(parent, name)


def _text(parent: etree._Element, name: str, text: str) -> None:
    _below(parent, name).text = text
