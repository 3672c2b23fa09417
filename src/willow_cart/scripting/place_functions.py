"""The functions that contact servers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from os import PathLike, fspath
from pathlib import Path
from typing import TYPE_CHECKING, Unpack

from willow_cart.cart.cart import Cart
from willow_cart.commands.discovering import OfferFinder
from willow_cart.commands.errand import ErrandRequest
from willow_cart.commands.haul import HaulPlan, HaulRequest
from willow_cart.commands.haul import haul as haul_sources
from willow_cart.commands.knock import KnockRequest
from willow_cart.commands.knock import knock as knock_at
from willow_cart.commands.load import LoadRequest
from willow_cart.commands.load import load as load_sources
from willow_cart.commands.offline import OfflineRequest
from willow_cart.commands.offline import offline as take_offline
from willow_cart.commands.peek import PeekRequest
from willow_cart.commands.peek import peek as peek_at
from willow_cart.commands.survey import SurveyRequest
from willow_cart.commands.survey import survey as survey_sources
from willow_cart.errands.running import ErrandPlan, run_errand
from willow_cart.errors import Incomplete
from willow_cart.exits import Exit
from willow_cart.model import Offer
from willow_cart.scripting.keywords import (
    HaulKeywords,
    KnockKeywords,
    OfflineKeywords,
    PeekKeywords,
    SurveyKeywords,
)
from willow_cart.scripting.place_results import (
    ErrandRun,
    Haul,
    KnockResult,
    OfflineResult,
    PeekResult,
    Survey,
)
from willow_cart.scripting.requesting import (
    RETRY,
    Listener,
    given_by_arguments,
    in_notebook,
    incomplete,
    read_looking,
    read_request,
)
from willow_cart.views import errand_words  # noqa: F401  # registers the messages of errands
from willow_cart.views.words import counted, summed_up

if TYPE_CHECKING:
    from willow_cart.scripting.requesting import Source


def survey(*sources: Source, **options: Unpack[SurveyKeywords]) -> Survey:
    """List what sources offer, and choose; fetches no file.

    Args:
        sources: addresses, and paths of lists, carts, saved pages and folders; several of them
            in a list or a series; carts, surveys, and data frames with a `url` column.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        NothingChosen: nothing is left; the error says which rule left none.
        WillowCartError: none of the sources can be read, or an option cannot be understood.
    """
    request, offers = read_looking(SurveyRequest, sources, options)
    chosen: list[Offer] = []

    def keep(finder: OfferFinder) -> None:
        chosen.extend(finder.chosen())

    listener = Listener()
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
    """Write the chosen offers into a cart.

    Args:
        sources: as for `survey`.
        cart: its file, made or updated as by the command; None for a cart in memory.
        add: whether sources may be added to a file that has others.
        options: as for `survey`.

    Returns:
        The cart. A file is read back: what was taken out of it before is out.

    Raises:
        NothingChosen: nothing is left.
        WillowCartError: as for `survey`, or the cart cannot be written.
    """
    own = given_by_arguments(cart=cart, add=add)
    request, offers = read_looking(LoadRequest, sources, options, own)
    done = load_sources(request, Listener(), offers)
    return Cart.of(done.find.chosen()) if request.cart is None else Cart.load(request.cart)


def haul(
    *sources: Source,
    into: str | PathLike[str],
    progress: bool | None = None,
    must_arrive: bool = True,
    cluster: object = None,
    **options: Unpack[HaulKeywords],
) -> Haul:
    """Fetch the chosen offers with resume, check and file them.

    The same call goes on after any break, and a second one reads the same files: nothing is
    fetched twice, and there are no numbered copies.

    Args:
        sources: as for `survey`.
        into: the folder to file into.
        progress: whether bars are drawn; None draws them in notebooks.
        must_arrive: whether something that did not arrive, or failed its check, is an error.
        cluster: whose workers fetch: a client of Dask's, the address of a scheduler, or its file;
            None for this machine alone.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        Incomplete: not everything is here; its `result` is the `Haul` that would be returned.
        NothingChosen: nothing is left to haul.
        WillowCartError: none of the sources can be read, an option cannot be understood, or
            nothing can be filed there.
        KeyboardInterrupt: it was interrupted; what had arrived stays, and the rest is resumed from
            its byte.
    """
    request, offers = read_looking(HaulRequest, sources, options, given_by_arguments(into=into))
    listener = Listener(progress=in_notebook() if progress is None else progress)
    hauled = haul_sources(request, listener, besides=offers, cluster=_scheduler(cluster))
    if isinstance(hauled, HaulPlan):
        raise TypeError("haul() has no preview")
    listener.sum_up(summed_up(hauled.account, request.into, hauled.offered))
    done = Haul(request.into, hauled.account, tuple(listener.notes))
    if hauled.account.interrupted:
        raise KeyboardInterrupt
    if must_arrive and hauled.exit_code:
        raise _not_all_here(done, [str(each) for each in hauled.unread])
    return done


def _scheduler(cluster: object) -> object:
    return str(cluster) if isinstance(cluster, PathLike) else cluster


def _not_all_here(done: Haul, unread: Sequence[str]) -> Incomplete:
    troubles = [f"{row.path}: {row.reason}" for row in done.troubles] or [*unread, *done.notes[-1:]]
    counts = counted(done.account.planned, done.account.counts)
    why = f"not everything arrived and passed its check: {counts}"
    code = done.exit_code or Exit.INCOMPLETE
    return incomplete(done, str(done.into), why, troubles, advice=RETRY, exit_code=code)


def offline(
    *pages: str,
    into: str | PathLike[str],
    progress: bool | None = None,
    must_arrive: bool = True,
    **options: Unpack[OfflineKeywords],
) -> OfflineResult:
    """Copy pages with everything they need, to be read without a network.

    Args:
        pages: the addresses to begin with.
        into: the folder to file into.
        progress: whether bars are drawn; None draws them in notebooks.
        must_arrive: whether something that did not arrive is an error.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        Incomplete: something did not arrive; its `result` is the `OfflineResult` that would be
            returned.
        WillowCartError: an option cannot be understood, or nothing can be filed there.
        KeyboardInterrupt: it was interrupted; the same call resumes.
    """
    given = given_by_arguments(pages=pages, into=into)
    request = read_request(OfflineRequest, options, given)
    listener = Listener(progress=in_notebook() if progress is None else progress)
    taken = take_offline(request, listener)
    done = OfflineResult(request.into, taken.taken, taken.made, tuple(listener.notes))
    if taken.taken.interrupted:
        raise KeyboardInterrupt
    if must_arrive and done.exit_code:
        why = f"not everything arrived: {counted(taken.taken.planned, taken.taken.counts)}"
        troubles = [f"{each.address}: {each.why}" for each in done.missing[:1]]
        code = done.exit_code
        raise incomplete(done, str(into), why, troubles, advice=RETRY, exit_code=code)
    return done


def peek(address: str | PathLike[str], **options: Unpack[PeekKeywords]) -> PeekResult:
    """Look into a file without fetching it whole.

    Args:
        address: of the file, or the path of one on this machine.
        options: those of the command, by their names with `_` for `-`.

    Returns:
        What is in it; `to_frame` gives the rows of a table, with their types.

    Raises:
        WillowCartError: the file cannot be reached, or an option cannot be understood.
    """
    own = given_by_arguments(sources=(fspath(address),))
    done = peek_at(read_request(PeekRequest, options, own), Listener())
    if done.failures:
        raise done.failures[0]
    (peeked,) = done.files
    return PeekResult(peeked)


def knock(address: str, **options: Unpack[KnockKeywords]) -> KnockResult:
    """Test a server step by step: name, connection, certificate, sign-in, ranges.

    Args:
        options: those of the command, by their names with `_` for `-`.

    Raises:
        WillowCartError: the address or an option cannot be understood.
    """
    request = read_request(KnockRequest, options, given_by_arguments(sources=(address,)))
    knocked = knock_at(request, Listener())
    return KnockResult(knocked.address, tuple(knocked.findings))


def errand(
    file: str | PathLike[str],
    *,
    values: Mapping[str, object] | None = None,
    begin: str | int | None = None,
    preview: bool = False,
    must_arrive: bool = True,
) -> ErrandRun:
    """Run a job from a file, or show what it would do.

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
    given = given_by_arguments(
        file=file,
        set=tuple(f"{name}={value}" for name, value in (values or {}).items()) or None,
        preview=preview,
        **{"from": begin},
    )
    listener = Listener()
    request = read_request(ErrandRequest, {}, given)
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
        why = done.notes[-1] if done.notes else "failed"
        raise incomplete(done, str(file), why, (), advice="see its notes", exit_code=code)
    return done
