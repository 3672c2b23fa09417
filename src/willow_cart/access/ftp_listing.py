"""What FTP servers write when they list a folder: MLSD (RFC 3659) and the styles of LIST.

Lines are read as ISO 8859-1, one character a byte, so that a name can be given back to the server
byte by byte whatever it is written in.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from willow_cart.units import MONTHS

_MONTH = "|".join(MONTHS)
# Permissions, links, owner, perhaps a group, size; then a date in one of the forms in use.
_UNIX = re.compile(
    r"(?P<type>[-dlbcps])[-rwxsStTlL]{9}\S*\s+(?:\d+\s+)?\S+\s+(?:\S+\s+)?(?P<size>\d+)\s+"
    r"(?:"
    rf"(?P<month>{_MONTH})\s+(?P<day>\d{{1,2}})\s+(?:(?P<year>\d{{4}})|(?P<hm>\d{{1,2}}:\d\d))"
    rf"|(?P<day2>\d{{1,2}})\.?\s+(?P<month2>{_MONTH})\s+(?:(?P<year2>\d{{4}})|(?P<hm2>\d{{1,2}}:\d\d))"
    r"|(?P<iso>\d{4}-\d\d-\d\d)\s+(?P<hm3>\d\d:\d\d)(?::\d\d(?:\.\d+)?)?(?:\s+[+-]\d{4})?"
    r") (?P<name>.+)",
    re.IGNORECASE,
)
_DOS = re.compile(
    r"(?P<month>\d\d)-(?P<day>\d\d)-(?P<year>\d{4}|\d\d)\s+(?P<hour>\d\d):(?P<minute>\d\d)"
    r"(?P<half>[AP]M)?\s+(?:(?P<folder><DIR>|<JUNCTION>|<SYMLINKD>)|(?P<size>\d+))\s+(?P<name>.+)",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class Line:
    """One name in a listing.

    Attributes:
        name: one character a byte.
        kind: `file`, `folder`, or `link` for what may be either.
        size: bytes; None for a folder, and where it is not said.
        modified: as the server has it; what has no zone is taken as UTC.
    """

    name: str
    kind: str
    size: int | None = None
    modified: datetime | None = None


def parse_fact_line(line: str) -> Line | None:
    """Read a line of MLSD (RFC 3659, 7.2); None for the folder itself, the one above, and pipes."""
    facts_part, blank, name = line.partition(" ")
    if not blank or not name:
        return None
    facts = {}
    for fact in facts_part.split(";"):
        key, _, value = fact.partition("=")
        facts[key.lower()] = value
    what = facts.get("type", "file").lower()
    size = facts.get("size", "")
    modified = parse_timestamp(facts.get("modify", ""))
    if what == "dir":
        return Line(name, "folder", None, modified)
    if what == "file":
        return Line(name, "file", int(size) if size.isdigit() else None, modified)
    # RFC 3659, 7.5.1: systems add types of their own, and of these links are worth a look.
    return Line(name, "link") if "link" in what or "symlink" in what else None


def parse_timestamp(text: str) -> datetime | None:
    """Read a moment as MDTM and MLSD write it, in UTC (RFC 3659, 2.3)."""
    match = re.fullmatch(r"(\d{14})(?:\.\d+)?", text.strip())
    if match is None:
        return None
    try:
        return datetime.strptime(match[1], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return None


def parse_list_line(line: str, now: datetime) -> Line | None:
    """Read a line of LIST, in the style of Unix or of DOS; None for one that is neither.

    Args:
        line: as it came.
        now: by which a date without a year is placed: within the year that ends tomorrow.
    """
    if match := _UNIX.fullmatch(line):
        name = match["name"]
        if name in (".", ".."):
            return None
        modified = _unix_moment(match, now)
        match match["type"].lower():
            case "d":
                return Line(name, "folder", None, modified)
            case "l":
                return Line(name.partition(" -> ")[0], "link", None, modified)
            case "-":
                return Line(name, "file", int(match["size"]), modified)
        return None
    if match := _DOS.fullmatch(line):
        modified = _dos_moment(match)
        if match["folder"]:
            return Line(match["name"], "folder", None, modified)
        return Line(match["name"], "file", int(match["size"]), modified)
    return None


def _unix_moment(match: re.Match[str], now: datetime) -> datetime | None:
    try:
        if match["iso"]:
            return datetime.fromisoformat(f"{match['iso']} {match['hm3']}").replace(tzinfo=UTC)
        month = MONTHS[(match["month"] or match["month2"]).lower()]
        day = int(match["day"] or match["day2"])
        if year := match["year"] or match["year2"]:
            return datetime(int(year), month, day, tzinfo=UTC)
        hour, minute = map(int, (match["hm"] or match["hm2"]).split(":"))
        for year in (now.year + 1, now.year, now.year - 1):
            # The 29th of February is not in every year.
            if (month, day) == (2, 29) and (year % 4 or (year % 100 == 0 and year % 400)):
                continue
            moment = datetime(year, month, day, hour, minute, tzinfo=UTC)
            if moment <= now + timedelta(days=1):
                return moment
    except ValueError:
        pass
    return None


def _dos_moment(match: re.Match[str]) -> datetime | None:
    year, hour = int(match["year"]), int(match["hour"])
    if year < 100:
        year += 1900 if year >= 70 else 2000
    if half := match["half"]:
        hour = hour % 12 + (12 if half.upper() == "PM" else 0)
    try:
        return datetime(
            year, int(match["month"]), int(match["day"]), hour, int(match["minute"]), tzinfo=UTC
        )
    except ValueError:
        return None
