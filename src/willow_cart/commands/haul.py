"""`haul`: list, choose, fetch, check, file."""

from __future__ import annotations

import gc
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, closing, contextmanager, suppress
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.addresses import host_of
from willow_cart.cart.forms import form_for
from willow_cart.commands.connecting import make_access, read_bounds
from willow_cart.commands.errand import write_errand
from willow_cart.commands.finding import OfferFinder
from willow_cart.commands.log import LogFile
from willow_cart.commands.policies import make_rule, make_unpacking
from willow_cart.commands.request import LookingRequest, shown_command
from willow_cart.commands.result import CommandResult, counted
from willow_cart.commands.runs import my_runs
from willow_cart.commands.unpack import paths_of_members
from willow_cart.destination import is_case_sensitive
from willow_cart.errors import BadOption, CannotStore, Exit, UnreadableLedger, UnusableDestination
from willow_cart.events import CartKept, ErrandWritten, ListFound, NotPromised, OpenCluster
from willow_cart.filing import Plan, make_plan
from willow_cart.filing.plan import FilingRule
from willow_cart.formats.checksums import ChecksumBook
from willow_cart.hauling.run import haul_offers
from willow_cart.hauling.summary import HaulSummary
from willow_cart.identity import AddressId, address_id
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.ledger.receipt import Receipt, ReceiptRow, read_receipt
from willow_cart.ledger.runs import OwnRun, device_of
from willow_cart.model import Issue, Offer, Sizes, State, label_of
from willow_cart.observer import Observer, watched
from willow_cart.offer_store import OfferStore
from willow_cart.options.groups import (
    FilingOptions,
    HandlingOptions,
    HaulUnpackingOptions,
    PaceOptions,
)
from willow_cart.options.option import WRITE_ERRAND, option
from willow_cart.platform import processes
from willow_cart.progress import HaulProgress
from willow_cart.protocols import Access
from willow_cart.protocols.http.http_connection import is_this_machine
from willow_cart.protocols.kept_answers import KeptAnswers
from willow_cart.protocols.local import path_of
from willow_cart.sources.checksum_lists import lists_beside, read_lists
from willow_cart.sources.discover import Asking
from willow_cart.sources.listing import Discovery
from willow_cart.structs import Record, Value, replace
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.units import format_size

if TYPE_CHECKING:
    from willow_cart.executors.cluster import Cluster


if TYPE_CHECKING:
    from willow_cart.executors.cluster import Cluster


class HaulRequest(LookingRequest):
    """A request to haul."""

    command = "haul"

    into: Path = option(Path(), Path, "the folder to file into", metavar="DIR", required=True)
    filing: FilingOptions = FilingOptions()
    handling: HandlingOptions = HandlingOptions()
    write_errand: Path | None = WRITE_ERRAND
    unpacking: HaulUnpackingOptions = HaulUnpackingOptions()
    pace: PaceOptions = PaceOptions()


def make_policy(request: HaulRequest) -> HaulPolicy:
    """Return the policy of a haul."""
    unpacking = request.unpacking
    if unpacking.unpack:
        unpack = make_unpacking(unpacking, request.filing.name_parts, unpacking.unpack)
    else:
        require_of_use(request)
        unpack = None
    return HaulPolicy(
        make_rule(request.filing, unpacks=unpacking.unpack_to is not None),
        request.pace,
        request.handling,
        bounds=read_bounds(unpacking.unpacked_at_most),
        unpack=unpack,
    )


def require_of_use(request: HaulRequest) -> None:
    """Refuse unpacking options if nothing is unpacked.

    Raises:
        BadOption: there is one.
    """
    unpacking = request.unpacking
    given = {
        "--unpack-to": unpacking.unpack_to is not None,
        "--inside": unpacking.inside,
        "--strip-top": unpacking.strip_top,
        "--nested": unpacking.nested,
        "--archives": unpacking.archives != "keep",
        "--unpacked-at-most": unpacking.unpacked_at_most is not None
        and not opens_archives(request),
        "--archive-password": unpacking.archive_password,
    }
    for name, is_given in given.items():
        if is_given:
            raise BadOption(name, "requires --unpack")


def opens_archives(request: HaulRequest) -> bool:
    """Whether archives are opened without being unpacked."""
    return request.handling.inspect or request.looking.as_ == "archive"


class HaulPlan(Value):
    """The plan of a haul that was only previewed.

    Attributes:
        plan: the path of each file.
        known: how many were fetched by earlier hauls.
        incomplete: whether something of the sources could not be taken.
    """

    plan: Plan
    into: Path
    sizes: Sizes
    known: int
    incomplete: bool = False

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.incomplete else Exit.GOOD


_FIRST = ("path", "state", "size", "sha256", "address", "reason")


class Haul(CommandResult):
    """The result of a haul.

    Attributes:
        account: counts, bytes and seconds, and the exit code that follows from them.
        offered: how many files the sources offered.
        skipped: how many lines and parts of the sources could not be taken.
        unread: these lines; empty if an errand has reported them.
    """

    # Those that one looks at come first.
    columns = (*_FIRST, *(each for each in ReceiptRow.__struct_fields__ if each not in _FIRST))
    kinds = {"size": "Int64"}  # noqa: RUF012  # never changed

    account: HaulSummary
    request: HaulRequest
    offered: int
    skipped: int = 0
    unread: Sequence[Issue] = ()

    @property
    def into(self) -> Path:
        """The folder that was filed into."""
        return self.request.into

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        if self.account.exit_code is Exit.GOOD and self.skipped:
            return Exit.INCOMPLETE
        return self.account.exit_code

    @property
    def counts(self) -> Mapping[str, int]:
        """The number of files by state."""
        return {str(state): files for state, files in self.account.counts.items()}

    @cached_property
    def receipt(self) -> Receipt:
        """The receipt, read from the ledger."""
        return read_receipt(self.into, self.account.run)

    @property
    def troubles(self) -> list[ReceiptRow]:
        """The files that failed, were refused, or are damaged."""
        return [row for row in self.receipt.rows if row.reason]

    @cached_property
    def paths(self) -> tuple[Path, ...]:
        """The paths of the files that arrived now or earlier, in the order of the haul."""
        good = (State.ARRIVED, State.UNCHANGED, State.HERE)
        lying = (self.into / row.path for row in self.receipt.rows if row.state in good)
        return tuple(path for path in lying if path.is_file())

    @property
    def path(self) -> Path:
        """The path of the only file.

        Raises:
            BadOption: it is not one.
        """
        if len(self.paths) != 1:
            raise BadOption("path", f"there are {len(self.paths):,} files", "use paths")
        return self.paths[0]

    @cached_property
    def members(self) -> tuple[Path, ...]:
        """The paths of the files from its archives, unpacked now or earlier."""
        with Ledger(ledger_path(self.into)) as ledger:
            arrivals = [ledger.latest_at(row.path) for row in self.receipt.rows]
        return paths_of_members((self.into, each) for each in arrivals if each is not None)

    @property
    def summary(self) -> str:
        """Return the counts by state, and the bytes received."""
        counts = counted(self.account.planned, self.account.counts)
        return f"{counts}; {format_size(self.account.received)} received"

    def records(self) -> Iterator[Sequence[object]]:
        """Return a row per file; the columns are those of `receipt --csv`, in another order."""
        return (tuple(getattr(row, name) for name in self.columns) for row in self.receipt.rows)

    def shown(self) -> tuple[Sequence[str], Iterable[Sequence[object]], int]:
        """Return the columns and rows that people see, problems first."""
        rows = self.receipt.rows
        cells = (
            (label_of(row.state), row.path, "" if row.size is None else format_size(row.size),
             row.reason)
            for row in sorted(rows, key=lambda row: not row.reason)
        )  # fmt: skip
        return ("state", "path", "size", "why"), cells, len(rows)

    def __repr__(self) -> str:
        return f"<Haul into {self.into}: {self.summary}>"


def haul(
    request: HaulRequest,
    observer: Observer,
    *,
    besides: Iterable[Offer] = (),
    run: OwnRun | None = None,
    cluster: object = None,
) -> Haul | HaulPlan:
    """List the sources, choose, and haul; or only plan it.

    Args:
        observer: receives the events, and can stop the haul.
        besides: offers that are known already, chosen from as well.
        run: its entry in the list of runs; None makes one.
        cluster: a client of Dask's, in place of the request's `cluster`.

    Raises:
        NothingChosen: nothing is left to haul.
        WillowCartError: none of the sources can be read, an option cannot be understood, or
            nothing can be filed there.
    """
    _require_outside(request)
    if not request.handling.preview:
        require_not_vanished(request.handling, request.into)
    if request.handling.cart is not None:
        form_for(request.handling.cart)  # reports a bad name before any work is done
    policy = make_policy(request)
    if request.write_errand is not None:
        write_errand(request.write_errand, request)
        observer.note(ErrandWritten(request.write_errand))
    lanes = request.pace.first_host_lanes
    with (
        make_access(
            [request], request.pace.most_host_lanes, observer, request.pace, bounds=policy.bounds
        ) as made,
        connected_to(request.handling.cluster if cluster is None else cluster, observer) as workers,
        keeping_answers(made, request.into, lanes, is_fetched_here=workers is None) as (
            access,
            keeping,
        ),
    ):
        asking = Asking() if request.handling.preview else keeping
        finder = OfferFinder(request, access, lanes, observer, besides=besides, asking=asking)
        offers = finder.chosen()
        troubles = finder.found.troubles
        if request.handling.preview:
            planned = plan_haul(offers, request.into, policy.layout)
            return replace(planned, incomplete=bool(troubles))
        if request.handling.cart is not None:
            # Left behind now, so that it is there whatever becomes of the haul.
            from willow_cart.commands.load import keep_cart

            look = Discovery(sources=finder.found.sources)
            observer.note(CartKept(keep_cart(offers, request.handling.cart, look, observer)))
        account = carry(request, policy, offers, access, observer, run=run, cluster=workers)
    return Haul(account, request, finder.choice.offered, len(troubles), troubles)


def require_not_vanished(request: HandlingOptions, into: Path) -> None:
    """Refuse a folder that was hauled into on another disk: that disk may not be mounted.

    A folder that is empty or missing on the same disk was emptied or deleted on purpose.

    Raises:
        UnusableDestination: it is on another disk now, without its ledger.
    """
    if request.start_over or has_ledger(into):
        return
    place = str(into.absolute())
    earlier = [run for run in my_runs().all() if run.into == place and run.progress.files_done]
    if earlier and earlier[-1].device not in (0, device_of(into)):
        raise UnusableDestination(
            str(into),
            f"was on another disk when it was hauled into on {earlier[-1].started[:10]}",
            "mount that disk, or start over here with --start-over",
        )


def _require_outside(request: HaulRequest) -> None:
    """Refuse a destination inside a source: each run would haul the previous one.

    Raises:
        UnusableDestination: it is one.
    """
    into = request.into.resolve()
    for source in request.sources:
        folder = Path(path_of(source) if source.startswith("file://") else source)
        if request.looking.depth != 1 and folder.is_dir() and into.is_relative_to(folder.resolve()):
            raise UnusableDestination(
                str(request.into),
                f"lies in {source}, which is to be hauled",
                "name another folder with --into",
            )


def plan_haul(offers: OfferStore, into: Path, rule: FilingRule) -> HaulPlan:
    """Plan where offers would be filed.

    Raises:
        FieldsMissing: the rule has a field that some of them have no value for.
        UnreadableLedger: the ledger there is damaged, or of a later version.
    """
    with ExitStack() as stack:
        held = stack.enter_context(KnownFiles(ledger_path(into))) if has_ledger(into) else None
        plan = make_plan(offers, rule, held, case_sensitive=is_case_sensitive(into))
        known = sum(map(len, plan.known.values()))
        return HaulPlan(plan, into, offers.sizes, known)


@contextmanager
def keeping_answers(
    access: Access, into: Path, most_open: int, *, is_fetched_here: bool
) -> Iterator[tuple[Access, Asking]]:
    """Keep the responses of probes for the download, and probe nothing that the ledger knows.

    Args:
        most_open: how many large answers of one host are left open.
        is_fetched_here: whether this process downloads; otherwise responses are dropped.

    Yields:
        The client for all protocols from now on, and what to do with answers.
    """
    import sqlite3

    folder = next(each for each in (into, *into.absolute().parents) if each.is_dir())
    with ExitStack() as stack:
        kept = stack.enter_context(KeptAnswers(access, folder, most_open))
        is_known: Callable[[str], bool] = lambda address: False  # noqa: ARG005, E731
        if has_ledger(into):
            with suppress(sqlite3.Error, UnreadableLedger):  # the haul says what is wrong with it
                held = stack.enter_context(KnownFiles(ledger_path(into)))
                held.is_known(AddressId(""))
                is_known = lambda address: held.is_known(address_id(address))  # noqa: E731
        yield kept, Asking(is_known, kept.keep if is_fetched_here else None)


def _with_checksums(
    request: HandlingOptions, offers: OfferStore, access: Access, observer: Observer
) -> OfferStore:
    """Return the offers with the checksums of lists.

    The lists are those that are named, and those next to the files.
    """
    if not (request.checksums or request.find_checksums):
        return offers
    entries, no_lines = read_lists(request.checksums, access)
    observer.note_each(no_lines)
    if request.find_checksums:
        for found in lists_beside(offers, access):
            entries += found.entries
            observer.note(ListFound(found.place, len(found.entries)))
    promising, troubles = ChecksumBook(entries).promise(offers)
    promised = OfferStore(promising)
    promised.twice = offers.twice
    observer.note_each(troubles)
    if bare := sum(not offer.checksums for offer in promised):
        observer.note(NotPromised(bare, len(promised)))
    return promised


def carry(
    request: HaulRequest,
    policy: HaulPolicy,
    offers: OfferStore,
    access: Access,
    observer: Observer,
    *,
    run: OwnRun | None = None,
    cluster: Cluster | None = None,
) -> HaulSummary:
    """Haul the chosen offers, with checksum lists, a log, and an entry in the list of runs.

    Args:
        request: the options of a haul.
        policy: what they come to.
        offers: the chosen ones.
        observer: receives the events, and can stop the haul.
        run: its own entry; None makes one.
        cluster: whose workers fetch; None for this machine alone.
    """
    offers = _with_checksums(request.handling, offers, access, observer)
    command = shown_command(request)
    # The offers live until the end; looking through them for garbage repeatedly would cost a
    # haul of thousands of small files a tenth of its time.
    gc.freeze()
    with ExitStack() as stack:
        stack.callback(gc.unfreeze)
        logs = (
            []
            if request.handling.log is None
            else [stack.enter_context(LogFile(request.handling.log))]
        )
        stop = stack.enter_context(observer.stoppable())
        told, progress = stack.enter_context(watched(observer, request.into, *logs))
        with _entered(command, request.into, run, progress) as ending:
            account = haul_offers(
                offers,
                request.into,
                access,
                policy,
                command=command,
                note=request.handling.note,
                observer=told,
                stop=stop,
                cluster=cluster,
            )
            ending.exit_code = account.exit_code
        told.note(account.ended())
    return account


class _Ending(Record):
    """The exit code of a haul.

    Attributes:
        exit_code: the exit code of the command.
    """

    exit_code: int = Exit.NOT_UNDERSTOOD


@contextmanager
def _entered(
    command: str, into: Path, own: OwnRun | None, progress: HaulProgress
) -> Iterator[_Ending]:
    """List a haul in `runs` while it is running, and its exit code afterwards.

    Args:
        command: the command line, without secrets.
        own: its entry, if it is in the background and has one already.
    """
    run = own
    with suppress(CannotStore):  # it is hauled even so, and not listed
        run = own or my_runs().begin(command, into, background=False)
    ending = _Ending()
    if run is None:
        yield ending
        return
    run.report(progress.progress)
    try:
        yield ending
    finally:
        run.end(ending.exit_code, progress.progress())
        if not (progress.files or own):
            # It has not begun, and has stated it where it was started.
            my_runs().forget(run.run.number)


@contextmanager
def connected_to(scheduler: object, observer: Observer) -> Iterator[Cluster | None]:
    """Connect to a scheduler.

    Args:
        scheduler: its address, its file, or a client of Dask's; None for none.
        observer: told if the line to it is open to others.

    Raises:
        UnusableCluster: nothing answers there.
    """
    if scheduler is None:
        yield None
        return
    from willow_cart.executors.cluster import Cluster  # most commands have none

    with closing(Cluster(scheduler)) as cluster:
        shown = cluster.client.shown
        if shown.startswith("tcp://"):
            is_here = is_this_machine(host_of(shown).rpartition(":")[0].strip("[]"))
            if not is_here or processes.has_other_users():
                observer.note(OpenCluster(shown, is_here))
        yield cluster
