"""When an errand is run: a time of every day, of days of the week, or of a day of the month."""

from __future__ import annotations

import re
from dataclasses import dataclass

from willow_cart.errors import BadOption

_DAYS = ("Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat")
_TIME = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)")
_HOW = "write 'daily 06:30', 'Fri 20:30', 'Mon-Fri 07:00', 'Mon,Thu 07:00' or '1 06:00'"


@dataclass(frozen=True, slots=True)
class Schedule:
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
