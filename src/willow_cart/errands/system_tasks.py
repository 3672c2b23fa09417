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

from willow_cart.errands.schedule import Schedule

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
