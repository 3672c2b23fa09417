"""Parse marks, sizes and dates as users and spreadsheets write them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from contextlib import suppress
from datetime import UTC, datetime, timedelta

from willow_cart.errors import BadOption
from willow_cart.units import MONTHS, parse_size, read_count

# What users write in the `take` column; a spreadsheet makes TRUE of true, in its own language.
_YES = frozenset(
    "yes y x 1 true ja j wahr oui o vrai si sí s sì verdadero vero sim verdadeiro tak prawda ano"
    " igen igaz sand sann tosi waar".split()
)
_NO = frozenset(
    ("", *"no n 0 false nein falsch non faux falso não nao nie fałsz ne nem hamis nej falsk falskt"
     " ei epätosi nee onwaar".split())
)  # fmt: skip

# Spaces between thousands, the ones that typesetters use among them.
_BLANKS = (
    "[ \N{NO-BREAK SPACE}\N{NARROW NO-BREAK SPACE}\N{THIN SPACE}'\N{RIGHT SINGLE QUOTATION MARK}]"
)
_THOUSANDS = re.compile(rf"\d{{1,3}}(?:([.,]|{_BLANKS})\d{{3}})(?:\1\d{{3}})*")
_WHOLE = re.compile(r"(\d+)(?:[.,]0+)?")
_ROUNDED = re.compile(r"(\d{1,30}(?:[.,]\d{1,30})?)[eE]\+?(\d{1,2})")
_WITH_UNIT = re.compile(r"(\d{1,30})(?:[.,](\d{1,30}))?\s*([A-Za-z]+)")


def read_mark(cell: str) -> bool:
    """Parse a mark in the `take` column; unknown words are refused.

    Raises:
        BadOption: it says neither yes nor no.
    """
    mark = cell.lower()
    if mark in _YES:
        return True
    if mark in _NO:
        return False
    raise BadOption(repr(cell), "not yes or no", "write yes, or leave it empty")


def read_bytes(cell: str) -> tuple[int | None, int | None, int | None]:
    """Parse a size in bytes: exact, or rounded with how far it may be off.

    `1234567`, `1,234,567`, `1.234.567`, `1 234 567`, `1.5 MB`; a `~` before it, or the powers of
    ten that a spreadsheet makes of large numbers, mark a rounded size: `~232038 +-103`.

    Raises:
        BadOption: it is not a size, or ambiguous.
    """
    if cell.isascii() and cell.isdigit():
        return _counted(cell), None, None
    if cell.startswith("~"):
        written, _, within = cell[1:].partition("+-")
        exact, about = _read_bytes(written.strip())
        return None, about if exact is None else exact, read_count(within.strip())
    return *_read_bytes(cell), None


def _read_bytes(cell: str) -> tuple[int | None, int | None]:
    """Parse a size without a mark: the exact and the rounded one, of which one is None."""
    if not cell:
        return None, None
    if _THOUSANDS.fullmatch(cell):
        return _counted(re.sub(r"\D", "", cell)), None
    if whole := _WHOLE.fullmatch(cell):
        return _counted(whole[1]), None
    if rounded := _ROUNDED.fullmatch(cell):
        return None, int(float(rounded[1].replace(",", ".")) * 10 ** int(rounded[2]))
    if with_unit := _WITH_UNIT.fullmatch(cell):
        number, fraction, unit = with_unit.groups()
        if "," in cell and len(fraction or "") == 3:
            raise BadOption(repr(cell), "ambiguous size", "write it without a comma")
        return parse_size(f"{number}.{fraction or 0} {unit}"), None
    raise BadOption(repr(cell), "not a size", "write bytes, or a unit such as 1.5 MB")


def _counted(digits: str) -> int:
    count = read_count(digits)
    if count is None:
        raise BadOption(repr(digits[:30]), "implausible size", "correct it")
    return count


# Days and months in figures, the year first or last, with or without a time after them.
_FIGURES = re.compile(
    r"(\d{1,4})([./-])(\d{1,2})\2(\d{1,4})"
    r"(?:[T ,]+(\d{1,2}):(\d\d)(?::(\d\d)(?:[.,]\d+)?)?\s*([ap]\.?m\.?)?)?",
    re.IGNORECASE,
)
_NAMED = re.compile(
    r"(?:(\d{1,2})\.?[ -]([a-z]{3,9})\.?[ -]|([a-z]{3,9})\.? (\d{1,2}),? )(\d{2,4})"
    r"(?:[ ,]+(\d{1,2}):(\d\d)(?::(\d\d))?\s*([ap]\.?m\.?)?)?",
    re.IGNORECASE,
)
# Days since the end of 1899, which a spreadsheet shows where it has forgotten that it is a date.
_SERIAL = re.compile(r"[2-8]\d{4}(?:[.,]\d+)?")
_ISO = re.compile(r"\d{4}-\d\d-\d\d")
_SERIAL_BEGIN = datetime(1899, 12, 30, tzinfo=UTC)


def read_date(cell: str, *, day_first: bool | None) -> datetime | None:
    """Parse a date, with or without a time; without a zone it is UTC.

    ISO 8601, and what spreadsheets make of it: `2031/5/3`, `03.05.2031 06:15`, `5/3/2031 6:15 AM`,
    `3 May 2031`, `52354.26`.

    Args:
        cell: its text; empty for none.
        day_first: whether the day is before the month between strokes; None if unknown.

    Raises:
        BadOption: it is not a date, or could be two.
    """
    if not cell:
        return None
    if _ISO.match(cell):
        with suppress(ValueError):  # what is wrong with it is reported below
            moment = datetime.fromisoformat(cell)
            return moment if moment.tzinfo else moment.replace(tzinfo=UTC)
    try:
        if figures := _FIGURES.fullmatch(cell):
            return _from_figures(figures, day_first)
        if named := _NAMED.fullmatch(cell):
            day, month, month_too, day_too, year, *time = named.groups()
            number = MONTHS[(month or month_too)[:3].lower()]
            return _moment(int(year), number, int(day or day_too), time)
        if _SERIAL.fullmatch(cell):
            days = timedelta(days=float(cell.replace(",", ".")))
            # Five decimals of a day are exact to the second.
            return _SERIAL_BEGIN + timedelta(seconds=round(days.total_seconds()))
        moment = datetime.fromisoformat(cell)
    except (ValueError, KeyError, OverflowError):
        raise BadOption(repr(cell), "not a date", "write it as 2031-05-03") from None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def _from_figures(figures: re.Match[str], day_first: bool | None) -> datetime:
    one, mark, two, three, *time = figures.groups()
    if len(one) == 4:
        return _moment(int(one), int(two), int(three), time)
    # Where points stand between, the day is first everywhere.
    day_first = True if mark == "." or one == two else day_first
    if day_first is None:
        raise BadOption(repr(figures[0]), "ambiguous date", "write it as 2031-05-03")
    day, month = (one, two) if day_first else (two, one)
    return _moment(int(three), int(month), int(day), time)


def _moment(year: int, month: int, day: int, time: list[str | None]) -> datetime:
    hour, minute, second = (int(part or 0) for part in time[:3])
    if half := time[3]:
        if not 1 <= hour <= 12:
            raise ValueError(hour)
        hour = hour % 12 + (12 if half[0] in "pP" else 0)
    year += 2000 if year < 100 else 0
    return datetime(year, month, day, hour, minute, second, tzinfo=UTC)


def is_day_first(cells: Iterable[str]) -> bool | None:
    """Whether a column of dates has the day first, decided by the first unambiguous date.

    Only dates with strokes between their figures are in doubt. None if no date tells, or if they
    tell different things.
    """
    told: bool | None = None
    for cell in cells:
        figures = _FIGURES.fullmatch(cell)
        if figures is None or figures[2] == "." or len(figures[1]) == 4:
            continue
        one, two = int(figures[1]), int(figures[3])
        tells = True if one > 12 >= two else False if two > 12 >= one else None
        if tells is not None:
            if told not in (None, tells):
                return None
            told = tells
    return told
