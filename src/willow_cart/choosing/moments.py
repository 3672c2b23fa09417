"""Parse the dates and times that users choose by."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from willow_cart.errors import BadOption

_UNITS = {"min": "minutes", "h": "hours", "d": "days", "w": "weeks"}
_AGO = re.compile(r"(\d{1,6})\s*(min|h|d|w)")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_ADVICE = "write 2031-05-01, 2031-05-01T06:00Z, or how long ago: 5d, 24h, 90min, 2w"


def parse_when(text: str, now: datetime, *, whole_day: bool = False) -> datetime:
    """Parse a date, a date with a time (ISO 8601), or an age.

    What has no zone is taken as UTC, as servers write their dates.

    Args:
        text: as typed.
        now: what "ago" is counted from, with time zone.
        whole_day: whether a date alone stands for its end rather than for its beginning.

    Raises:
        BadOption: it is not a date or time.
    """
    text = text.strip()
    try:
        if ago := _AGO.fullmatch(text):
            return now - timedelta(**{_UNITS[ago[2]]: int(ago[1])})
        moment = datetime.fromisoformat(text)
        if whole_day and _DAY.fullmatch(text):
            moment += timedelta(days=1) - timedelta.resolution
    except (ValueError, OverflowError):
        raise BadOption(text, "not a date or time", _ADVICE) from None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)
