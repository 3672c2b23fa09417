"""Write an errand from a survey, with the possible choices in comments."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence

from willow_cart.commands.connecting import make_access
from willow_cart.commands.errand import (
    STEPS_HINT,
    VALUES_HINT,
    ErrandRequest,
    keys_of,
    require_no_secrets,
)
from willow_cart.commands.finding import OfferFinder
from willow_cart.commands.survey import SurveyRequest
from willow_cart.commands.table import COMMANDS
from willow_cart.errors import BadOption
from willow_cart.events import ErrandWritten
from willow_cart.kinds import extension_of
from willow_cart.model import Offer
from willow_cart.observer import Observer
from willow_cart.options.option import Given
from willow_cart.replacing import replacing
from willow_cart.sources.listing import Discovery, Why
from willow_cart.structs import replace
from willow_cart.toml_file import toml_comment, toml_line
from willow_cart.units import count_of

# A month as addresses have it; the years are those that users keep files of.
_MONTH = re.compile(r"(?<!\d)(?:19|20)\d\d-?(?:0[1-9]|1[0-2])(?=\D|\d\d\D|$)")

_DIGITS = re.compile(r"\d+")

# Kinds of files, and series of names, listed in the comments for a source.
_MOST_KINDS, _MOST_SERIES = 8, 5


def write_from_survey(request: ErrandRequest, observer: Observer) -> None:
    """List the sources of a request, and write an errand with all that was typed.

    Raises:
        BadOption: there is such a file already, or it would hold a secret.
        CannotStore: it cannot be written.
        WillowCartError: none of the sources can be read.
    """
    path, sources = request.file, request.new or ()
    if path.exists():
        raise BadOption(str(path), "already exists", "name a new file")
    known = COMMANDS[SurveyRequest.command].by_key()
    given = {key: texts for key, texts in request.given.items() if key in known}
    require_no_secrets("--new", given, known)
    survey = SurveyRequest.read({**given, "sources": tuple(sources)})
    month = next((found[0] for found in map(_MONTH.search, sources) if found), "")
    lines = [*_head(month)]
    with make_access([survey], survey.lanes, observer) as access:
        for source in sources:
            one = replace(survey, sources=(source,))
            finder = OfferFinder(one, access, survey.lanes, observer)
            offers = [offer for offer, dropped_by in finder.judged() if not dropped_by]
            lines += _source(source, offers, finder.found, month, given)
    if connecting := keys_of("connecting", given):
        lines += ["", "[connecting]", *connecting]
    with replacing(path) as text:
        text.writelines(f"{line}\n" for line in lines)
        text.write(STEPS_HINT if month else VALUES_HINT + STEPS_HINT)
    observer.note(ErrandWritten(path))


def require_only_new(request: ErrandRequest) -> None:
    """Refuse options for a new errand where one is run.

    Raises:
        BadOption: one is given.
    """
    known = COMMANDS[SurveyRequest.command].by_key()
    for key in request.given:
        if key in known and key != "overwrite":
            raise BadOption(
                known[key].flag, "goes only with --new", f"write it in {request.file} instead"
            )


def _head(month: str) -> Iterator[str]:
    yield "# Where everything goes; relative to this file."
    yield toml_line("into", "data/{month}" if month else "data")
    yield '# gone = "aside"  # what happens to files no longer offered; kept if left out'
    if month:
        yield from ("", "[values]")
        yield f'month = "{month[:4]}-{month[-2:]}"  # or "{{last_month}}", to be run every month'


def _source(
    source: str, offers: Sequence[Offer], found: Discovery, month: str, given: Given
) -> Iterator[str]:
    """Yield the lines for a source: the typed options, its offers, and keys that may be useful."""
    yield from ("", "[[source]]", toml_line("from", _with_month(source, month)))
    yield from (_with_month(line, month) for line in keys_of("source", given))
    such = f", such as {offers[0].path}" if offers else ""
    yield toml_comment(f"It offers {count_of(len(offers), 'file')}{such}")
    for key, why, noun in (("depth = 2", Why.DEPTH, "folder"), ("pages = 2", Why.PAGES, "page")):
        further = [each.path for each in found.not_entered if each.why is why]
        if further:
            entered = f"{count_of(len(further), noun)} not entered, such as {further[0]}"
            yield toml_comment(f"{key}  # {entered}")
    kinds = Counter(extension_of(offer.file_name) for offer in offers).most_common(_MOST_KINDS)
    if len(kinds) > 1 and "ext" not in given:
        listed = ", ".join(f"{count:,} {extension or 'bare'}" for extension, count in kinds)
        yield toml_comment(f"{toml_line('ext', [kinds[0][0]])}  # {listed}")
    if "keep" in given:
        return
    series = Counter(_series_of(_with_month(offer.file_name, month)) for offer in offers)
    for pattern, count in series.most_common(_MOST_SERIES):
        if count > 1 and "?" in pattern:
            yield toml_comment(f"{toml_line('keep', [pattern])}  # {count:,} of them")


def _series_of(name: str) -> str:
    """Return a pattern for names that differ from a name only in their digits.

    A value in it is kept.
    """
    return _DIGITS.sub(lambda digits: "?" * len(digits[0]), name)


def _with_month(text: str, month: str) -> str:
    """Replace the month that was found in the sources by the value."""
    if not month:
        return text
    year, number = month[:4], month[-2:]
    return text.replace(f"{year}-{number}", "{month}").replace(f"{year}{number}", "{month:%Y%m}")
