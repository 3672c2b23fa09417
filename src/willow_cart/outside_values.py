"""Read single values in text from elsewhere; one that cannot be right costs itself and no more."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote

from willow_cart.limits import require_shallow

# As many digits as any real number has; Python takes minutes for very long ones.
_MAX_DIGITS = 30


def with_zone(moment: datetime) -> datetime | None:
    """Return a moment with its zone; one without is in UTC.

    None for the first and the last year of the calendar, which no zone or margin may leave.
    """
    if not 1 < moment.year < 9999:
        return None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def read_iso(text: str | None) -> datetime | None:
    """Read a date or a moment in ISO 8601, in UTC if it names no zone; None if it is none."""
    try:
        return with_zone(datetime.fromisoformat(text or ""))
    except ValueError:
        return None


def moment_at(seconds: float | None) -> datetime | None:
    """Return the moment a number of seconds after 1970 began; None if that is in no year."""
    try:
        return None if seconds is None else with_zone(datetime.fromtimestamp(seconds, UTC))
    except (OverflowError, ValueError, OSError):
        return None


def read_json(text: str | bytes) -> Any:
    """Read JSON (RFC 8259); a number of too many digits becomes an infinite one.

    Raises:
        ValueError: it is not JSON, or is nested too deeply.
    """
    require_shallow(text if isinstance(text, bytes) else text.encode("utf-8", "surrogatepass"))
    return json.loads(text, parse_int=_read_int)


def _read_int(digits: str) -> int | float:
    return int(digits) if len(digits) <= _MAX_DIGITS else float(f"{digits[:1]}e999")


def quote_name(name: str) -> str:
    """Encode a name for an address; what UTF-8 has no bytes for becomes a question mark."""
    return quote(name.encode("utf-8", "replace"), safe="~")
