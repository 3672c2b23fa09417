"""The functions: each reads its keywords as the command of its name reads its options."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from importlib.util import find_spec
from os import PathLike, fspath
from pathlib import Path
from threading import Event as Flag
from typing import TYPE_CHECKING, BinaryIO, NoReturn, TypeVar, Unpack, cast

from willow_cart.cart import Cart
from willow_cart.errands.running import ErrandPlan, run_errand
from willow_cart.errors import BadOption, Incomplete
from willow_cart.exits import Exit
from willow_cart.jobs.audit import audit as audit_folder
from willow_cart.jobs.audit import repair
from willow_cart.jobs.discovering import OfferFinder
from willow_cart.jobs.haul import Planned
from willow_cart.jobs.haul import haul as haul_sources
from willow_cart.jobs.job_observer import JobObserver, Notice, stopped_by_signals
from willow_cart.jobs.load import load as load_sources
from willow_cart.jobs.survey import survey as survey_sources
from willow_cart.model import Offer
from willow_cart.requests.audit import AuditRequest
from willow_cart.requests.errand import ErrandRequest
from willow_cart.requests.given import Given, given_in
from willow_cart.requests.haul import HaulRequest
from willow_cart.requests.load import LoadRequest
from willow_cart.requests.request import LookingRequest, Request
from willow_cart.requests.survey import SurveyRequest
from willow_cart.requests.toml_keys import NOT_KEYWORDS, options_of_command
from willow_cart.scripting.keywords import AuditKeywords, HaulKeywords, SurveyKeywords
from willow_cart.scripting.results import Audit, ErrandRun, Haul, Survey
from willow_cart.settings import settings_for
from willow_cart.toml_file import Table
from willow_cart.units import printable
from willow_cart.views.lines import View
from willow_cart.views.words import counted, lines_of

if TYPE_CHECKING:
    import pandas as pd

    Source = str | PathLike[str] | Iterable[Offer] | pd.DataFrame

Asked = TypeVar("Asked", bound=Request)
Looked = TypeVar("Looked", bound=LookingRequest)


def survey(*sources: Source, **options: Unpack[SurveyKeywords]) -> Survey:
    """Look at what sources offer, and choose; fetches no file.

    Args:
        sources: addresses, paths of lists, carts, saved pages and folders; also carts, surveys,
            offers, and data frames with a `url` column.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        NothingChosen: nothing is left; the error says which rule left none.
        WillowCartError: none of the sources can be read, or an option cannot be understood.
    """
    request, offers = _read(SurveyRequest, sources, options)
    chosen: list[Offer] = []

    def keep(finder: OfferFinder) -> None:
        chosen.extend(finder.chosen())

    listener = _Listener()
    done = survey_sources(request, listener, keep, offers)
    return Survey(
        tuple(chosen),
        done.choice.offered,
        tuple(done.found.not_entered),
        complete=not done.exit_code,
        notes=tuple(listener.notes),
    )


def load(
    *sources: Source,
    cart: str | PathLike[str] | None = None,
    add: bool = False,
    **options: Unpack[SurveyKeywords],
) -> Cart:
    """Put what is chosen in a cart.

    Args:
        sources: as for `survey`.
        cart: its file, made or brought up to date as by the command; None for a cart in memory.
        add: whether sources may be added to a file that has others.
        options: as for `survey`.

    Returns:
        The cart. A file is read back: what was taken out of it before is out.

    Raises:
        NothingChosen: nothing is left.
        WillowCartError: as for `survey`, or the cart cannot be written.
    """
    more: dict[str, tuple[str, ...]] = {} if cart is None else {"cart": (fspath(cart),)}
    request, offers = _read(
        LoadRequest, sources, options, {**more, **({"add": ("",)} if add else {})}
    )
    done = load_sources(request, _Listener(), offers)
    return Cart.of(done.find.chosen()) if request.cart is None else Cart.load(request.cart)


def haul(
    *sources: Source,
    into: str | PathLike[str],
    progress: bool | None = None,
    must_arrive: bool = True,
    **options: Unpack[HaulKeywords],
) -> Haul:
    """Bring what is chosen home: fetch with resume, check, file.

    The same call goes on after any break, and a second one reads the same files: nothing is
    fetched twice, and there are no numbered copies.

    Args:
        sources: as for `survey`.
        into: the folder to file into.
        progress: whether bars are drawn; None draws them in notebooks.
        must_arrive: whether something that did not arrive, or failed its check, is an error.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        Incomplete: not everything is here; its `result` is the `Haul` that would be returned.
        NothingChosen: nothing is left to haul.
        WillowCartError: none of the sources can be read, an option cannot be understood, or
            nothing can be filed there.
        KeyboardInterrupt: it was interrupted; what had arrived stays, and the rest goes on from
            its byte.
    """
    request, offers = _read(HaulRequest, sources, options, {"into": (fspath(into),)})
    listener = _Listener(progress=_in_notebook() if progress is None else progress)
    hauled = haul_sources(request, listener, besides=offers)
    if isinstance(hauled, Planned):
        raise TypeError("a preview is no keyword of haul()")
    done = Haul(request.into, hauled.account, tuple(listener.notes))
    if hauled.account.interrupted:
        raise KeyboardInterrupt
    if must_arrive and hauled.exit_code:
        raise _incomplete(done, [str(each) for each in hauled.unread])
    return done


def _incomplete(done: Haul, unread: Sequence[str]) -> Incomplete:
    troubles = [f"{row.path}: {row.reason}" for row in done.troubles] or [*unread, *done.notes[-1:]]
    first = f", such as {troubles[0]}" if troubles else ""
    return Incomplete(
        str(done.into),
        f"not everything is here, and right: {counted(done.account.planned, done.account.counts)}"
        + first,
        "the same call tries again; must_arrive=False returns what came",
        result=done,
        exit_code=done.exit_code or Exit.INCOMPLETE,
    )


def audit(folder: str | PathLike[str] = ".", **options: Unpack[AuditKeywords]) -> Audit:
    """Check what lies in a folder against its ledger and checksum lists.

    Args:
        folder: that was hauled into.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        UnreadableLedger: there is neither a ledger nor a list.
        WillowCartError: an option cannot be understood, or a list cannot be read.
    """
    request = _request(AuditRequest, options, {"folder": (fspath(folder),)})
    listener = _Listener()
    audited = audit_folder(request, listener)
    repaired = None
    if request.repair and audited.harmed:
        repaired = repair(request, audited, listener)
    return Audit(request.folder, tuple(audited.found), repaired, tuple(listener.notes))


def errand(
    file: str | PathLike[str],
    *,
    values: Mapping[str, object] | None = None,
    begin: str | int | None = None,
    preview: bool = False,
    must_arrive: bool = True,
) -> ErrandRun:
    """Run a job that is written down in a file, or show what it would do.

    Args:
        file: the errand.
        values: other words for its values, for this run.
        begin: fetch nothing, and begin with a step: its number, or what it is.
        preview: whether it is only shown.
        must_arrive: whether a run that ends not well is an error.

    Raises:
        Incomplete: something did not arrive or failed its check, or a step failed; its `result`
            is the `ErrandRun` that would be returned.
        WillowCartError: it cannot be understood or carried out.
    """
    given: dict[str, tuple[str, ...]] = {"file": (fspath(file),)}
    if values:
        given["set"] = tuple(f"{name}={value}" for name, value in values.items())
    if begin is not None:
        given["from"] = (str(begin),)
    if preview:
        given["preview"] = ("",)
    listener = _Listener()
    request = _request(ErrandRequest, {}, given)
    outcome = run_errand(request, listener)
    if isinstance(outcome, ErrandPlan):
        return ErrandRun(Path(file), outcome.exit_code, notes=tuple(listener.notes), plan=outcome)
    code = outcome.exit_code
    hauled = outcome.hauled
    haul = None if hauled is None else Haul(hauled.request.into, hauled.account)
    done = ErrandRun(Path(file), code, haul, tuple(outcome.steps), tuple(listener.notes))
    if code is Exit.INTERRUPTED:
        raise KeyboardInterrupt
    if must_arrive and code:
        raise Incomplete(
            str(file), done.notes[-1] if done.notes else "did not end well", "see its notes",
            result=done, exit_code=code,
        )  # fmt: skip
    return done


class _Listener(JobObserver):
    """Gathers what would be told to a person, for a script to ask for.

    Args:
        progress: whether bars are drawn.

    Attributes:
        notes: the lines.
    """

    def __init__(self, *, progress: bool = False) -> None:
        self._progress = progress
        self.notes: list[str] = []

    def note(self, event: Notice) -> None:
        """Keep the lines that tell of an event."""
        for line in lines_of(event):
            self._keep(line)

    def _keep(self, line: str) -> None:
        self.notes.append(printable(line))

    def watch_haul(
        self, into: Path, *, bars: bool = True, failures: bool = True
    ) -> AbstractContextManager[View]:
        """Draw bars if they are wanted, or keep what is told."""
        view: View
        if bars and self._progress:
            from willow_cart.views.bars import LiveView  # takes longer than a small haul

            view = LiveView(into)
        else:
            view = View(self._keep)
        view.tells_failures = failures
        return view

    def stoppable(self) -> AbstractContextManager[Flag]:
        """Return what ends a haul in order at the first interrupt; the second is an error."""
        return stopped_by_signals(_interrupt)

    def standard_input(self) -> BinaryIO | None:
        """Return what `-` stands for among the sources."""
        return None if sys.stdin is None else sys.stdin.buffer


def _interrupt() -> NoReturn:
    raise KeyboardInterrupt


def _in_notebook() -> bool:
    """Whether a notebook runs this, and has what bars are drawn by there."""
    return "ipykernel" in sys.modules and find_spec("ipywidgets") is not None


def _read(
    kind: type[Looked],
    sources: Sequence[Source],
    options: Mapping[str, object],
    more: Given | None = None,
) -> tuple[Looked, list[Offer]]:
    """Return what was asked for, and the offers among the sources."""
    named: list[str] = []
    offers: list[Offer] = []
    for source in sources:
        if isinstance(source, str | PathLike):
            named.append(fspath(source))
        elif hasattr(source, "itertuples"):
            offers += Cart.from_frame(cast("pd.DataFrame", source))
        else:
            offers += source
    for offer in offers:
        if not isinstance(offer, Offer):
            raise BadOption(f"{kind.command}()", f"takes no {type(offer).__name__}", "see its help")
    if not sources:
        raise BadOption(f"{kind.command}()", "has no source", "name an address or a list")
    given = {**(more or {}), "sources": tuple(named)}
    return _request(kind, options, given), offers


def _request(kind: type[Asked], options: Mapping[str, object], given: Given) -> Asked:
    """Make a request of keywords, and of what a function takes besides.

    Raises:
        BadOption: a keyword is not known, or cannot be read.
    """
    name = f"{kind.command}()"
    keys = {key.rstrip("_"): value for key, value in options.items() if value is not None}
    known = {
        key: option
        for key, option in options_of_command(kind.command).items()
        if key not in NOT_KEYWORDS
    }
    keywords = given_in(Table(name, name, keys), known)
    return kind.read({**keywords, **given}, settings_for(kind.command))
