"""The functions: each reads its keywords as the command of its name reads its options."""

from __future__ import annotations

import io
from collections.abc import Iterable, Mapping, Sequence
from contextlib import redirect_stdout
from dataclasses import replace
from os import PathLike, fspath
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar, Unpack, cast

from willow_cart.cart import Cart
from willow_cart.cli import audit as audit_command
from willow_cart.cli import errand as errand_command
from willow_cart.cli.bringing import carry, keeping_answers, make_view
from willow_cart.cli.connecting import make_access
from willow_cart.cli.haul import require_outside
from willow_cart.cli.keys import Asked, read_words, words_of
from willow_cart.cli.load import find_for, put_in_cart, require_form
from willow_cart.cli.looking import Looker
from willow_cart.cli.preferring import preferred
from willow_cart.cli.running import stoppable
from willow_cart.cli.telling import counted, hearing
from willow_cart.errands import Table
from willow_cart.errors import BadOption, Incomplete
from willow_cart.exits import Exit
from willow_cart.jobs.audit import AuditRequest
from willow_cart.jobs.errand import ErrandRequest
from willow_cart.jobs.haul import HaulRequest
from willow_cart.jobs.hauling_policies import make_request_rules, make_wishes
from willow_cart.jobs.load import LoadRequest
from willow_cart.jobs.requests import LookingRequest
from willow_cart.jobs.survey import SurveyRequest
from willow_cart.jobs.tables import options_of_command
from willow_cart.model import Offer
from willow_cart.scripting.options import AuditOptions, HaulOptions, SurveyOptions
from willow_cart.scripting.results import Audit, ErrandRun, Haul, Survey

if TYPE_CHECKING:
    import pandas as pd

    Source = str | PathLike[str] | Iterable[Offer] | pd.DataFrame

Looked = TypeVar("Looked", bound=LookingRequest)

# What functions do otherwise than by an option: their own arguments, and forms for people.
NOT_KEYWORDS = frozenset(
    "into cart add preview detach write_errand to_script overwrite why json csv tree".split()
)


def survey(*sources: Source, **options: Unpack[SurveyOptions]) -> Survey:
    """Look at what sources offer, and choose; fetches no file.

    Args:
        sources: addresses, paths of lists, carts, saved pages and folders; also carts, surveys,
            offers, and data frames with a `url` column.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        NothingChosen: nothing is left; the error says which rule left none.
        WillowCartError: none of the sources can be read, or an option cannot be understood.
    """
    with hearing() as notes:
        request, offers = _read(SurveyRequest, sources, options)
        with make_access([request], request.lanes) as access:
            looker = Looker(request, access, request.lanes, besides=offers)
            chosen = tuple(looker.chosen())
        found = looker.found
    complete = not (found.troubles or looker.unanswered)
    return Survey(chosen, looker.choice.offered, tuple(found.not_entered), complete, tuple(notes))


def load(
    *sources: Source,
    cart: str | PathLike[str] | None = None,
    add: bool = False,
    **options: Unpack[SurveyOptions],
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
    with hearing():
        request, offers = _read(LoadRequest, sources, options, more=["--cart=-"])
        path = None if cart is None else Path(cart)
        require_form(path)
        find, looker = find_for(request, path, offers)
        if path is None:
            return Cart.of(find.chosen())
        put_in_cart(find, path, looker.found, add=add)
        return Cart.load(path)


def haul(
    *sources: Source,
    into: str | PathLike[str],
    progress: bool | None = None,
    must_arrive: bool = True,
    **options: Unpack[HaulOptions],
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
    with hearing() as notes:
        request, offers = _read(HaulRequest, sources, options, more=[f"--into={fspath(into)}"])
        require_outside(request)
        wishes = make_wishes(request)
        lanes = wishes.lanes_per_host
        with (
            make_access([request], lanes, make_request_rules(request, wishes)) as made,
            keeping_answers(made, request.into, lanes) as (access, asking),
        ):
            looker = Looker(request, access, lanes, besides=offers, asking=asking)
            chosen = looker.chosen()
            view = make_view(request.into, progress=progress)
            with stoppable() as stop:
                account = carry(request, wishes, chosen, access, view=view, stop=stop)
    done = Haul(request.into, account, tuple(notes))
    if account.interrupted:
        raise KeyboardInterrupt
    if must_arrive and (done.exit_code or looker.found.troubles):
        raise _incomplete(done, [str(each) for each in looker.found.troubles])
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


def audit(folder: str | PathLike[str] = ".", **options: Unpack[AuditOptions]) -> Audit:
    """Check what lies in a folder against its ledger and checksum lists.

    Args:
        folder: that was hauled into.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        UnreadableLedger: there is neither a ledger nor a list.
        WillowCartError: an option cannot be understood, or a list cannot be read.
    """
    with hearing() as notes:
        request = _parse(AuditRequest, options, [fspath(folder)])
        found = audit_command.find(request)
        harmed = any(each.finding in ("changed", "missing") for each in found)
        repaired = audit_command.repair(request, found) if request.repair and harmed else None
    return Audit(request.folder, tuple(found), repaired, tuple(notes))


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
    words = [f"--set={name}={value}" for name, value in (values or {}).items()]
    words += [] if begin is None else [f"--from={begin}"]
    words += ["--preview"] if preview else []
    output = io.StringIO()
    with hearing() as notes, redirect_stdout(output):
        request = _parse(ErrandRequest, {}, [*words, fspath(file)])
        code = Exit(errand_command.run(request))
    done = ErrandRun(Path(file), code, output.getvalue(), tuple(notes))
    if code is Exit.INTERRUPTED:
        raise KeyboardInterrupt
    if must_arrive and code:
        raise Incomplete(
            str(file), notes[-1] if notes else "did not end well", "see its notes and its output",
            result=done, exit_code=code,
        )  # fmt: skip
    return done


def _read(
    kind: type[Looked],
    sources: Sequence[Source],
    options: Mapping[str, object],
    more: Sequence[str] = (),
) -> tuple[Looked, list[Offer]]:
    """What was asked for, as the command reads it, and the offers among the sources."""
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
    request = _parse(kind, options, ["--", *(named or ["-"])], more)
    return request if named else replace(request, sources=()), offers


def _parse(
    kind: type[Asked], options: Mapping[str, object], words: Sequence[str], more: Sequence[str] = ()
) -> Asked:
    command = kind.command
    name = f"{command}()"
    keys = {key.rstrip("_"): value for key, value in options.items() if value is not None}
    table = Table(name, name, keys)
    known = {
        key: option
        for key, option in options_of_command(command).items()
        if key not in NOT_KEYWORDS
    }
    typed = [*words_of(table, known), *more, *words]
    request = read_words(kind, [*preferred(command, typed), *typed], table)
    return replace(request, typed=(command, *typed))
