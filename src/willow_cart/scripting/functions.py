"""The commands as Python functions."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from os import PathLike, fspath
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar, Unpack

from willow_cart.cart.cart import Cart
from willow_cart.commands.audit import Audit, AuditRequest, repair
from willow_cart.commands.audit import audit as audit_folder
from willow_cart.commands.combine import CombineRequest, CombineResult
from willow_cart.commands.combine import combine as combine_tables
from willow_cart.commands.errand import ErrandRequest
from willow_cart.commands.finding import OfferFinder
from willow_cart.commands.haul import Haul, HaulPlan, HaulRequest
from willow_cart.commands.haul import haul as haul_sources
from willow_cart.commands.knock import KnockRequest, KnockResult
from willow_cart.commands.knock import knock as knock_at
from willow_cart.commands.load import LoadRequest
from willow_cart.commands.load import load as load_sources
from willow_cart.commands.offline import OfflineRequest, OfflineResult
from willow_cart.commands.offline import offline as take_offline
from willow_cart.commands.pack import PackRequest, PackResult
from willow_cart.commands.pack import pack as pack_folder
from willow_cart.commands.peek import PeekRequest, PeekResult
from willow_cart.commands.peek import peek as peek_at
from willow_cart.commands.pick import PickRequest, PickResult, undo_picking, way_of
from willow_cart.commands.pick import pick as pick_rows
from willow_cart.commands.receipt import PageWritten, ReceiptRequest, ReceiptResult
from willow_cart.commands.receipt import receipt as read_account
from willow_cart.commands.refile import RefileRequest, RefileResult
from willow_cart.commands.refile import refile as refile_folder
from willow_cart.commands.result import CommandResult, counted, summed_up
from willow_cart.commands.survey import Survey, SurveyRequest
from willow_cart.commands.survey import survey as survey_sources
from willow_cart.commands.unpack import UnpackRequest, UnpackResult
from willow_cart.commands.unpack import unpack as unpack_archives
from willow_cart.commands.weigh import WeighRequest, WeighResult, draw
from willow_cart.commands.weigh import weigh as weigh_cart
from willow_cart.errands.outcome import StepDone
from willow_cart.errands.running import ErrandPlan, run_errand
from willow_cart.errors import BadOption, Exit, Incomplete
from willow_cart.events import NotPortable
from willow_cart.model import Offer
from willow_cart.scripting.keywords import (
    AuditKeywords,
    CombineKeywords,
    HaulKeywords,
    KnockKeywords,
    OfflineKeywords,
    PackKeywords,
    PeekKeywords,
    PickKeywords,
    ReceiptKeywords,
    RefileKeywords,
    SurveyKeywords,
    UnpackKeywords,
    WeighKeywords,
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
from willow_cart.scripting.wording import command_function
from willow_cart.structs import replace
from willow_cart.views import errand_words  # noqa: F401  # registers the messages of errands
from willow_cart.views.words import lines_of

if TYPE_CHECKING:
    from willow_cart.scripting.requesting import Source

File = str | PathLike[str]

Done = TypeVar("Done", bound=CommandResult)


class ErrandRun(CommandResult):
    """The result of an errand.

    Attributes:
        file: the errand's.
        code: what the command would return to the shell.
        haul: the result of the haul; None where the run began with a step, or was only planned.
        steps: the steps that were taken, with what each returned.
        plan: what a run would do; None where it was run.
    """

    file: Path
    code: Exit
    haul: Haul | None = None
    steps: tuple[StepDone, ...] = ()
    plan: ErrandPlan | None = None

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.code

    @property
    def output(self) -> str:
        """Return a line for each result: the haul, and each step."""
        return "".join(f"{line}\n" for line in self._lines())

    def _lines(self) -> Iterator[str]:
        if self.plan is not None:
            yield from (f"{name}: {value}" for name, value in self.plan.values)
            yield from (
                f"{self.plan.planned.into}/{filed.path}" for filed in self.plan.planned.plan
            )
            yield f"{self.plan.planned.sizes}; nothing was fetched"
            yield from (f"then {step}: {step.typed}" for step in self.plan.steps)
        if self.haul is not None:
            yield summed_up(self.haul.account, self.haul.into)
        for done in self.steps:
            yield _line_of(done)

    def __repr__(self) -> str:
        return f"<ErrandRun of {self.file}: exit code {int(self.exit_code)}>"

    def __str__(self) -> str:
        return self.output


def _line_of(done: StepDone) -> str:
    """Return the result of a step in one line."""
    match done.result:
        case CommandResult():
            return done.result.summary
        case PageWritten():
            return f"written to {done.result.page}"
    return f"{done.step}: {'failed' if done.exit_code else 'done'}"


@command_function(SurveyRequest, SurveyKeywords)
def survey(*sources: Source, **options: Unpack[SurveyKeywords]) -> Survey:
    """List what sources offer, and choose; fetches no file.

    Args:
        sources: addresses, and paths of lists, carts, saved pages and folders; several of them
            in a list or a series; carts, surveys, and data frames with a `url` column.
        options: the options of the command, listed below.

    Raises:
        NothingChosen: nothing is left; the error names the rule that left none.
        WillowCartError: none of the sources can be read, or an option cannot be understood.
    """
    request, offers = read_looking(SurveyRequest, sources, options)
    chosen: list[Offer] = []

    def keep(finder: OfferFinder) -> None:
        chosen.extend(finder.chosen())

    listener = Listener()
    done = survey_sources(request, listener, keep, offers)
    return replace(done, offers=tuple(chosen), notes=tuple(listener.notes))


@command_function(LoadRequest, SurveyKeywords)
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
        options: the options of the command, listed below.

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


@command_function(HaulRequest, HaulKeywords)
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
        progress: whether progress is shown: as bars in notebooks and terminals, else as lines on
            standard error; None shows it in notebooks only.
        must_arrive: whether something that did not arrive, or failed its check, is an error.
        cluster: whose workers fetch: a client of Dask's, the address of a scheduler, or its file;
            None for this machine alone.
        options: the options of the command, listed below.

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
    done = replace(hauled, notes=tuple(listener.notes))
    if done.account.interrupted:
        raise KeyboardInterrupt
    if must_arrive and done.exit_code:
        raise _not_all_here(done)
    return done


def _scheduler(cluster: object) -> object:
    return str(cluster) if isinstance(cluster, PathLike) else cluster


def _not_all_here(done: Haul) -> Incomplete:
    unread = map(str, done.unread)
    troubles = [f"{row.path}: {row.reason}" for row in done.troubles] or [*unread, *done.notes[-1:]]
    counts = counted(done.account.planned, done.account.counts)
    why = f"not everything arrived and passed its check: {counts}"
    return incomplete(done, str(done.into), why, troubles, advice=RETRY, exit_code=done.exit_code)


@command_function(OfflineRequest, OfflineKeywords)
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
        progress: whether progress is shown: as bars in notebooks and terminals, else as lines on
            standard error; None shows it in notebooks only.
        must_arrive: whether something that did not arrive is an error.
        options: the options of the command, listed below.

    Raises:
        Incomplete: something did not arrive; its `result` is the `OfflineResult` that would be
            returned.
        WillowCartError: an option cannot be understood, or nothing can be filed there.
        KeyboardInterrupt: it was interrupted; the same call resumes.
    """
    given = given_by_arguments(pages=pages, into=into)
    request = read_request(OfflineRequest, options, given)
    listener = Listener(progress=in_notebook() if progress is None else progress)
    done = replace(take_offline(request, listener), notes=tuple(listener.notes))
    if done.taken.interrupted:
        raise KeyboardInterrupt
    if must_arrive and done.exit_code:
        why = f"not everything arrived: {counted(done.taken.planned, done.taken.counts)}"
        troubles = [f"{each.address}: {each.why}" for each in done.missing[:1]]
        code = done.exit_code
        raise incomplete(done, str(into), why, troubles, advice=RETRY, exit_code=code)
    return done


@command_function(PeekRequest, PeekKeywords)
def peek(address: str | PathLike[str], **options: Unpack[PeekKeywords]) -> PeekResult:
    """Look into a file without fetching it whole.

    Args:
        address: of the file, or the path of one on this machine.
        options: the options of the command, listed below.

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


@command_function(KnockRequest, KnockKeywords)
def knock(address: str, **options: Unpack[KnockKeywords]) -> KnockResult:
    """Test a server step by step: name, connection, certificate, sign-in, ranges.

    Args:
        options: the options of the command, listed below.

    Raises:
        WillowCartError: the address or an option cannot be understood.
    """
    request = read_request(KnockRequest, options, given_by_arguments(sources=(address,)))
    return knock_at(request, Listener())


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
        begin: fetch nothing, and begin with a step: its number, or its kind.
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
    code, notes = outcome.exit_code, tuple(listener.notes)
    done = ErrandRun(Path(file), code, outcome.hauled, tuple(outcome.steps), notes=notes)
    if code is Exit.INTERRUPTED:
        raise KeyboardInterrupt
    if must_arrive and code:
        why = done.notes[-1] if done.notes else "failed"
        raise incomplete(done, str(file), why, (), advice="see its notes", exit_code=code)
    return done


@command_function(PickRequest, PickKeywords)
def pick(cart: File, **options: Unpack[PickKeywords]) -> PickResult:
    """Take rows out of the file of a cart, or put them back.

    Args:
        cart: its file.
        options: the options of the command, listed below; one of `out`, `only`, `back`, `swap`
            and `undo` says what to do.

    Raises:
        WillowCartError: an option cannot be understood, or the cart cannot be read or written.
    """
    request = read_request(PickRequest, options, given_by_arguments(cart=cart))
    if request.undo:
        return undo_picking(request)
    if (way := way_of(request)) is None:
        raise BadOption(
            "pick()",
            "does not say what to do",
            "give out=True, only=True, back=True, swap=True or undo=True",
        )
    listener = Listener()
    done = pick_rows(request, way, listener)
    notes = (*listener.notes, *map(str, done.picked.unread), *done.picked.oddities)
    return replace(done, notes=notes)


@command_function(WeighRequest, WeighKeywords)
def weigh(
    cart: File,
    *,
    into: File | None = None,
    overwrite: bool = False,
    **options: Unpack[WeighKeywords],
) -> WeighResult:
    """Count and total the rows in the file of a cart; split it, or draw it.

    Args:
        cart: its file.
        into: where it is to be hauled; None for the current folder.
        overwrite: whether to replace existing parts and figures.
        options: the options of the command, listed below.

    Raises:
        WillowCartError: the cart cannot be read, or something cannot be written.
    """
    own = given_by_arguments(cart=cart, into=into, overwrite=overwrite)
    request = read_request(WeighRequest, options, own)
    listener = Listener()
    weighed = weigh_cart(request, listener)
    draw(request, weighed)
    notes = (*listener.notes, *map(str, weighed.troubles), *weighed.oddities)
    return replace(weighed, notes=notes)


@command_function(UnpackRequest, UnpackKeywords)
def unpack(
    *places: File,
    into: File | None = None,
    must_arrive: bool = True,
    **options: Unpack[UnpackKeywords],
) -> UnpackResult:
    """Unpack archives on this machine.

    Args:
        places: folders that were hauled into, and archives.
        into: the folder to unpack into; None for that which they were hauled into, or are in.
        must_arrive: whether an archive that cannot be unpacked is an error.
        options: the options of the command, listed below.

    Raises:
        Incomplete: an archive could not be unpacked, or something in it not be filed; its
            `result` is the `UnpackResult` that would be returned.
        NothingChosen: nothing is left to unpack.
        WillowCartError: an option cannot be understood, or nothing can be filed there.
        KeyboardInterrupt: it was interrupted; the same call resumes.
    """
    request = read_request(UnpackRequest, options, given_by_arguments(places=places, into=into))
    listener = Listener()
    done = replace(unpack_archives(request, listener), notes=tuple(listener.notes))
    if done.account.interrupted:
        raise KeyboardInterrupt
    return _require_all(done, must_arrive, places, done.notes)


@command_function(CombineRequest, CombineKeywords)
def combine(
    *places: File,
    cart: File | None = None,
    preview: bool = False,
    overwrite: bool = False,
    must_arrive: bool = True,
    **options: Unpack[CombineKeywords],
) -> CombineResult:
    """Combine the tables in folders into one.

    Args:
        places: folders, hauled into or not, and tables.
        cart: use only files from the addresses in this cart; None for all.
        preview: whether nothing is written; the result says what there would be.
        overwrite: whether to replace an existing file of another program.
        must_arrive: whether a table that cannot be read is an error.
        options: the options of the command, listed below; `to` is the file.

    Raises:
        Incomplete: a table could not be read; its `result` is the `CombineResult` that would be
            returned.
        NothingChosen: there are no tables.
        WillowCartError: an option cannot be understood, or the file cannot be written.
    """
    own = given_by_arguments(places=places, cart=cart, preview=preview, overwrite=overwrite)
    request = read_request(CombineRequest, options, own)
    listener = Listener()
    done = combine_tables(request, listener)
    troubles = [*map(str, done.combined.troubles)]
    notes = (*listener.notes, *troubles, *done.combined.notes)
    return _require_all(replace(done, notes=notes), must_arrive, places, troubles)


@command_function(PackRequest, PackKeywords)
def pack(
    folder: File,
    *,
    to: File,
    overwrite: bool = False,
    must_arrive: bool = True,
    **options: Unpack[PackKeywords],
) -> PackResult:
    """Pack what is in a folder as one archive.

    Args:
        folder: hauled into or not.
        to: the archive; its name ends in .zip or .tar.gz.
        overwrite: whether to replace an existing archive.
        must_arrive: whether a file that is not as it was hauled is an error.
        options: the options of the command, listed below.

    Raises:
        Incomplete: a file could not be packed, or is not as it was hauled; its `result` is the
            `PackResult` that would be returned.
        NothingChosen: nothing is left to pack.
        WillowCartError: an option cannot be understood, or the archive cannot be written.
    """
    own = given_by_arguments(folder=folder, to=to, overwrite=overwrite)
    request = read_request(PackRequest, options, own)
    done = pack_folder(request)
    notes = (*map(str, done.packed.troubles), *lines_of(NotPortable(done.packed.unportable)))
    return _require_all(replace(done, notes=notes), must_arrive, [folder], notes)


@command_function(AuditRequest, AuditKeywords)
def audit(folder: str | PathLike[str] = ".", **options: Unpack[AuditKeywords]) -> Audit:
    """Check what is in a folder against its ledger and checksum lists.

    Args:
        folder: a folder that was hauled into.
        options: the options of the command, listed below.

    Raises:
        UnreadableLedger: there is neither a ledger nor a list.
        WillowCartError: an option cannot be understood, or a list cannot be read.
    """
    request = read_request(AuditRequest, options, given_by_arguments(folder=folder))
    listener = Listener()
    audited = audit_folder(request, listener)
    repaired = None
    if request.repair and audited.harmed:
        repaired = repair(request, audited, listener)
    return replace(audited, repaired=repaired, notes=tuple(listener.notes))


@command_function(ReceiptRequest, ReceiptKeywords)
def receipt(
    folder: File = ".", *, overwrite: bool = False, **options: Unpack[ReceiptKeywords]
) -> ReceiptResult:
    """Read what a folder's ledger says about its hauls, or write it in another format.

    Args:
        folder: a folder that was hauled into.
        overwrite: whether to replace an existing page.
        options: those of the command: by `run`, `runs` and `of` it says what is read, by `html`,
            `bag` and `manifest` in what form; without any it is the last haul.

    Raises:
        UnreadableLedger: no ledger, or it cannot be read.
        WillowCartError: options do not go together, or the output cannot be written.
    """
    own = given_by_arguments(folder=folder, overwrite=overwrite)
    request = read_request(ReceiptRequest, options, own)
    with read_account(request) as account:
        return ReceiptResult.of(request.folder, account)


@command_function(RefileRequest, RefileKeywords)
def refile(
    folder: File = ".",
    *,
    preview: bool = False,
    must_arrive: bool = True,
    **options: Unpack[RefileKeywords],
) -> RefileResult:
    """Move hauled files to a new layout.

    Args:
        folder: a folder that was hauled into.
        preview: whether nothing is moved; the result says what would be.
        must_arrive: whether a file that is missing or changed, and so stays, is an error.
        options: the options of the command, listed below.

    Raises:
        Incomplete: a file is missing or changed; its `result` is the `RefileResult` that would be
            returned.
        WillowCartError: an option cannot be understood, or the files cannot be moved.
    """
    own = given_by_arguments(folder=folder, preview=preview)
    request = read_request(RefileRequest, options, own)
    if not (request.has_rule or preview):
        raise BadOption("refile()", "no rule is given", "give layout or file_as, or preview=True")
    done = refile_folder(request)
    staying = [f"{path}: missing or changed" for path in done.staying]
    return _require_all(done, must_arrive and not preview, [folder], staying)


def _require_all(
    done: Done, must_arrive: bool, places: Sequence[File], troubles: Sequence[str]
) -> Done:
    """Return a result if it is complete or need not be.

    Raises:
        Incomplete: something is missing.
    """
    if must_arrive and done.exit_code:
        what = ", ".join(str(Path(place)) for place in places)
        advice = "use must_arrive=False to get the rest"
        code = done.exit_code
        raise incomplete(done, what, "not complete", troubles, advice=advice, exit_code=code)
    return done
