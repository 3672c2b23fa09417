"""The ticks of an axis."""

from __future__ import annotations

import math

# Steps of time that users count in, in seconds: up to a day.
_TIMES = (
    0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200,
    10800, 21600, 43200, 86400,
)  # fmt: skip


def even_marks(most: float, about: int = 4) -> list[float]:
    """Return ticks from 0 to the first not below `most`, in steps of 1, 2 or 5 times 10^n.

    Args:
        most: the largest value that is drawn; above 0.
        about: how many there are to be, roughly.
    """
    power = 10.0 ** math.floor(math.log10(most / about))
    step = next(power * factor for factor in (1, 2, 5, 10) if power * factor * about >= most)
    return [step * number for number in range(math.ceil(most / step - 1e-9) + 1)]


def time_marks(seconds: float, most: int = 9) -> list[float]:
    """Return ticks from 0 to at most `seconds`, in usual units of time.

    Args:
        seconds: the length of the axis.
        most: how many marks there may be besides 0.
    """
    day = _TIMES[-1]
    step = next((time for time in _TIMES if time * most >= seconds), day)
    while step * most < seconds:
        step += day
    return [step * number for number in range(int(seconds / step + 1e-9) + 1)]


def name_time(seconds: float) -> str:
    """Format a time on the axis: `0.5 s`, `45 s`, `2:30`, `1:30:00`, `3 d 6 h`."""
    if seconds < 60:
        return f"{seconds:g} s"
    minutes, rest = divmod(round(seconds), 60)
    if minutes < 60:
        return f"{minutes}:{rest:02d}"
    hours, minutes = divmod(minutes, 60)
    if hours < 48:
        return f"{hours}:{minutes:02d}:{rest:02d}"
    return f"{hours // 24} d {hours % 24} h"
