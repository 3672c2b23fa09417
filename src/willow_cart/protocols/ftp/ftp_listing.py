"""Parse the listings of FTP servers: MLSD (RFC 3659) and the variants of LIST.

Lines are read as ISO 8859-1, one character a byte, so that a name can be given back to the server
byte by byte whatever it is written in. A line that names something else than a file or a folder is
irrelevant; a line that cannot be understood may be a file, and is never passed over in silence.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from functools import lru_cache

from willow_cart.outside_values import moment_at, read_iso, with_zone
from willow_cart.structs import Value
from willow_cart.units import MONTHS, read_count

# Months as servers write them in other languages than English, by how they begin. What is not here
# costs the date, not the file.
_FOREIGN_MONTHS = {
    1: "gen ene janv led sty янв oca tam",
    2: "févr fév feb fev úno lut фев şub hel",
    3: "mär mars märz mrt mar bře мар maalis",
    4: "avr abr apr dub kwi апр nis huh",
    5: "mai mag may maj kvě мая май tou",
    6: "juin giu jun cze июн haz kes",
    7: "juil lug jul июл tem hei",
    8: "août ago aug srp sie авг ağu elo",
    9: "sept set sep zář wrz сен eyl syys",
    10: "okt oct ott out říj paź окт eki loka",
    11: "nov ноя kas marras",
    12: "dez déc dec dic des pro gru дек ara joulu",
}
_MONTHS = {
    **{word: number for number, words in _FOREIGN_MONTHS.items() for word in words.split()},
    **MONTHS,
}

# Longer lines hold no name that a file system takes, and cost time to compare.
_MAX_LINE_CHARACTERS = 2000

# Permissions; links, owner and group in any number of words; a size; a date in one of the forms in
# use; a name. Novell's permissions stand in brackets.
_UNIX = re.compile(
    r"(?P<type>[-dlbcpsD])(?:[-rwxsStTlL]{9}\S*|\s+\[[-A-Z]{8}\])\s+(?:(?P<between>.*?)\s+)?"
    r"(?P<size>\d[\d,.]*)\s+"
    r"(?:"
    r"(?P<one>[^\s\d]\S*|\d{1,2}[^\s\d:]\S*)\s+(?P<day>\d{1,2})[^\s\d:]{0,3}\s+"
    r"(?:(?P<year>\d{4})[^\s\d:]{0,3}|(?P<hm>\d{1,2}[:.]\d\d))"
    r"|(?P<day2>\d{1,2})\.?\s+(?P<two>[^\s\d]\S*)\s+"
    r"(?:(?P<year2>\d{4})|(?P<hm2>\d{1,2}[:.]\d\d))"
    r"|(?P<iso>\d{4}-\d\d-\d\d)\s+(?P<hm3>\d\d:\d\d)(?::\d\d(?:\.\d+)?)?(?:\s+[+-]\d{4})?"
    r") (?P<name>.+)",
    re.IGNORECASE | re.ASCII,  # bytes of names are not spaces
)
_DOS = re.compile(
    r"(?P<a>\d{1,4})(?P<mark>[-./])(?P<b>\d\d?)(?P=mark)(?P<c>\d{2,4})\s+"
    r"(?P<hour>\d{1,2}):(?P<minute>\d\d)(?::\d\d)?\s*(?P<half>[AP]M?)?\s+"
    r"(?:(?P<folder><DIR>|<JUNCTION>|<SYMLINKD?>)|(?P<size>\d[\d,.']*))\s+(?P<name>.+)",
    re.IGNORECASE | re.ASCII,
)
# EPLF (Bernstein): a plus, facts with commas after them, a tab, the name.
_EPLF = re.compile(r"\+(?P<facts>[^\t]*)\t(?P<name>.+)")
_TIMESTAMP = re.compile(r"(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)(\d\d)(?:\.\d+)?", re.ASCII)
# The line before the names that says how many blocks they take, in any language.
_IRRELEVANT = re.compile(r"[^\s\d]+\s+\d+\s*|\s*", re.ASCII)


class Line(Value):
    """One entry of a listing.

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


class NotUnderstoodLine(ValueError):
    """A line that may describe a file, in an unknown format."""


def parse_fact_line(line: str) -> Line | None:
    """Parse a line of MLSD (RFC 3659, 7.2); None for `.`, `..` and special files.

    Raises:
        NotUnderstoodLine: it has not the form of one.
    """
    if not line:
        return None
    facts_part, blank, name = line.partition(" ")
    if not blank or not name or (facts_part and "=" not in facts_part):
        raise NotUnderstoodLine(line)
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
        return Line(name, "file", read_count(size), modified)
    # RFC 3659, 7.5.1: systems add types of their own, and of these links are worth a look.
    return Line(name, "link") if "link" in what or "symlink" in what else None


def parse_timestamp(text: str) -> datetime | None:
    """Parse a time in the format of MDTM and MLSD, in UTC (RFC 3659, 2.3)."""
    match = _TIMESTAMP.fullmatch(text.strip())
    if match is None:
        return None
    try:
        year, month, day, hour, minute, second = map(int, match.groups())
        return with_zone(datetime(year, month, day, hour, minute, second, tzinfo=UTC))
    except ValueError:
        return None


def parse_list_line(line: str, now: datetime) -> Line | None:
    """Parse a line of LIST in the Unix, Novell, DOS or EPLF format.

    Args:
        line: as it came.
        now: by which a date without a year is placed: within the year that ends tomorrow.

    Returns:
        The name; None for a line that names no file and no folder.

    Raises:
        NotUnderstoodLine: it is in none of these styles.
    """
    if _IRRELEVANT.fullmatch(line):
        return None
    if len(line) > _MAX_LINE_CHARACTERS:
        raise NotUnderstoodLine(line)
    if match := _UNIX.fullmatch(line):
        return _unix_line(match, now)
    if match := _DOS.fullmatch(line):
        modified = _dos_moment(match)
        if match["name"] in (".", ".."):
            return None
        if match["folder"]:
            return Line(match["name"], "folder", None, modified)
        return Line(match["name"], "file", read_count(re.sub(r"\D", "", match["size"])), modified)
    if match := _EPLF.fullmatch(line):
        return _eplf_line(match)
    raise NotUnderstoodLine(line)


def _unix_line(match: re.Match[str], now: datetime) -> Line | None:
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
            return Line(name, "file", read_count(re.sub(r"\D", "", match["size"])), modified)
    return None


def _eplf_line(match: re.Match[str]) -> Line | None:
    """Parse an EPLF line: `/` for a folder, `r` for a file, `s` its size, `m` its time."""
    kind, size, modified = "", None, None
    for fact in match["facts"].split(","):
        if fact in ("/", "r"):
            kind = kind or ("folder" if fact == "/" else "file")
        elif fact.startswith("s"):
            size = read_count(fact[1:])
        elif fact.startswith("m") and (seconds := read_count(fact[1:])) is not None:
            modified = moment_at(seconds)
    if not kind:
        return None
    return Line(match["name"], kind, None if kind == "folder" else size, modified)


def _unix_moment(match: re.Match[str], now: datetime) -> datetime | None:
    try:
        if match["iso"]:
            return read_iso(f"{match['iso']} {match['hm3']}")
        month = _month(match["one"] or match["two"])
        if month is None:
            return None
        day = int(match["day"] or match["day2"])
        if year := match["year"] or match["year2"]:
            return with_zone(datetime(int(year), month, day, tzinfo=UTC))
        hour, minute = map(int, re.split("[:.]", match["hm"] or match["hm2"]))
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


@lru_cache(maxsize=256)
def _month(written: str) -> int | None:
    """Return the number of a month in one of many languages; None for any other word."""
    try:
        word = written.encode("latin-1").decode("utf-8")
    except UnicodeError:
        word = written
    word = word.lower().rstrip(".,")
    if numbered := re.fullmatch(r"(\d{1,2})[月월]", word):
        return int(numbered[1])
    # The longest beginning decides: `mars` is March and `mai` May, `juin` June and `juil` July.
    beginnings = (word[:end] for end in range(len(word), 1, -1))
    return next((_MONTHS[each] for each in beginnings if each in _MONTHS), None)


def _dos_moment(match: re.Match[str]) -> datetime | None:
    """Parse a date whose separator determines the order of its parts."""
    a, b, c = match["a"], match["b"], match["c"]
    if len(a) == 4:
        year, month, day = int(a), int(b), int(c)
    elif match["mark"] == ".":
        day, month, year = int(a), int(b), int(c)
    else:
        month, day, year = int(a), int(b), int(c)
        if match["mark"] == "/" and (month <= 12 and day <= 12 and month != day):
            return None  # one side of an ocean means another day by it than the other
        if month > 12:
            month, day = day, month
    if year < 100:
        year += 1900 if year >= 70 else 2000
    hour = int(match["hour"])
    if half := match["half"]:
        hour = hour % 12 + (12 if half.upper().startswith("P") else 0)
    try:
        return with_zone(datetime(year, month, day, hour, int(match["minute"]), tzinfo=UTC))
    except ValueError:
        return None
