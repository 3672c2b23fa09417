"""Run an errand: haul from its sources, then run its steps."""

from __future__ import annotations

import os
import subprocess
import threading
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import chdir, contextmanager
from datetime import datetime
from pathlib import Path

from willow_cart.cart.cart import Cart
from willow_cart.cart.loading import Find
from willow_cart.commands.combine import CombineRequest, combine
from willow_cart.commands.errand import ErrandRequest
from willow_cart.commands.haul import (
    Haul,
    HaulPlan,
    carry,
    connected_to,
    keeping_answers,
    make_policy,
    plan_haul,
    require_not_vanished,
)
from willow_cart.commands.load import fill_cart
from willow_cart.commands.pack import PackRequest, pack
from willow_cart.commands.receipt import ReceiptRequest, receipt
from willow_cart.commands.unpack import UnpackRequest, UnpackResult, unpack
from willow_cart.destination import FileTree
from willow_cart.errands.errand_events import (
    CannotRun,
    HaulEnded,
    OfferedNoMore,
    StepBegun,
    StepEnded,
    StepFailed,
    StepsLeft,
    TooLittleNew,
    UnlistedButThere,
)
from willow_cart.errands.job import Document, Job, Step, make_job, read_document
from willow_cart.errands.memory import Memory, my_memory
from willow_cart.errands.offers import Found, discover_offers, open_access
from willow_cart.errands.outcome import Accountant, ErrandDone, StepDone
from willow_cart.errands.values import Values
from willow_cart.errors import (
    BadOption,
    Exit,
    UnusableDestination,
    WillowCartError,
    code_for,
    plainly,
)
from willow_cart.events import CartKept
from willow_cart.hauling.vanished import confirm_gone, find_gone, move_gone_aside
from willow_cart.identity import AddressId
from willow_cart.ledger.entries import Arrival, StepRecord, timestamp
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.model import State
from willow_cart.observer import Observer
from willow_cart.offer_store import OfferStore
from willow_cart.platform import files
from willow_cart.protocols import Access
from willow_cart.redaction import without_secrets
from willow_cart.sources.listing import Discovery
from willow_cart.structs import Value, replace
from willow_cart.units import count_of

# A process has one current folder, and threads may run an errand each.
_CURRENT_FOLDER = threading.Lock()


class Changes(Value):
    """The differences from the last run, according to sources, ledger and stored state.

    Attributes:
        new: how many files were never here.
        changed: how many have another size.
        missing: how many are not here any more.
        gone: paths of what is here and not offered any more.
    """

    new: int
    changed: int
    missing: int
    gone: Sequence[str]


class ErrandPlan(Value):
    """What a run would do.

    Attributes:
        values: what each value of the errand is in this run.
        planned: where everything would go.
        changes: what differs from the last time; None where there was none.
        steps: what would be done then.
    """

    values: Sequence[tuple[str, str]]
    planned: HaulPlan
    changes: Changes | None
    steps: Sequence[Step]

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.planned.exit_code


def run_errand(request: ErrandRequest, observer: Observer) -> ErrandDone | ErrandPlan:
    """Run an errand, or plan it.

    Raises:
        WillowCartError: it cannot be understood, or carried out.
    """
    document = read_document(request.file)
    given = {**document.values.keys, **_set(request.set, document)}
    began = datetime.now().astimezone()
    values = Values(given, now=began, environment=os.environ)
    summary = None if request.summary is None else request.summary.absolute()
    # What is written relative in the file is relative to it, wherever it is started from.
    document = replace(document, path=request.file.resolve())
    with _CURRENT_FOLDER, chdir(document.path.parent):
        memory = my_memory(document.path)
        job = make_job(document, values, memory.last_good())
        job = replace(job, haul=replace(job.haul, words=request.words, given=request.given))
        errand = _Errand(document, job, memory, observer)
        first = errand.first_step(request.from_)
        if request.preview:
            return errand.plan(values)
        accountant = Accountant(document, began, summary, request.overwrite, observer)
        with _alone(document.path):
            try:
                done = errand.run() if request.from_ is None else errand.go_on(first)
            except WillowCartError as error:
                accountant.account_for(code_for(error), str(error))
                raise
            if done.exit_code is Exit.GOOD and request.from_ is None:
                memory.keep(began, errand.offered, errand.clocks)
            accountant.account_for(done.exit_code, done.why, done)
            return done


def _set(words: Sequence[str], document: Document) -> dict[str, str]:
    """Return the values that are set for this run."""
    given = {}
    for word in words:
        name, equals, value = word.partition("=")
        if not equals:
            raise BadOption(f"--set {word}", "has no value", "write NAME=VALUE")
        if name not in document.values.keys:
            known = ", ".join(document.values.keys) or "none"
            raise BadOption(f"--set {word}", "not a value of the errand", f"there are {known}")
        given[name] = value
    return given


@contextmanager
def _alone(path: Path) -> Iterator[None]:
    """Prevent a second run of the same errand at the same time.

    Raises:
        UnusableDestination: one is running.
    """
    try:
        file = files.open_to_look(path)
    except OSError as error:
        raise BadOption(str(path), f"cannot be read: {plainly(error)}", "check the file") from None
    try:
        files.lock(file)
        yield
    except BlockingIOError:
        raise UnusableDestination(
            str(path), "is already running", "wait until it ends; see willow-cart runs"
        ) from None
    finally:
        os.close(file)


class _Errand:
    """One run of an errand.

    Args:
        document: the errand as it is written.
        job: with its values put in.
        memory: the stored state of earlier runs.

    Attributes:
        offered: what each source offers, by its mark, once it was looked at.
        clocks: those of the sources; see `Memory.keep`.
    """

    def __init__(self, document: Document, job: Job, memory: Memory, observer: Observer) -> None:
        self._document = document
        self._job = job
        self._memory = memory
        self._observer = observer
        self._into = Path(job.into)
        self.offered: Mapping[str, Collection[AddressId]] = {}
        self.clocks: Collection[float | None] = ()
        self._run: int | None = None

    def first_step(self, begin: str | None) -> int:
        """Return the index of the step to start with, from 0.

        Raises:
            BadOption: no such step.
        """
        if begin is None:
            return 0
        for place, step in enumerate(self._job.steps):
            if begin in (str(step.number), step.what):
                return place
        known = ", ".join(f"{step.number} {step.what}" for step in self._job.steps) or "none"
        raise BadOption(f"--from {begin}", "not a step of the errand", f"there are {known}")

    def run(self) -> ErrandDone:
        """Haul, then run the steps if everything arrived."""
        hauled = self._haul()
        if hauled.exit_code:
            return ErrandDone(hauled, (), hauled.exit_code)
        done = replace(self.go_on(0), hauled=hauled)
        expected = self._document.expect_new
        arrived = hauled.account.counts[State.ARRIVED]
        if done.exit_code is Exit.GOOD and arrived < expected:
            self._observer.note(TooLittleNew(expected, arrived))
            why = f"{count_of(expected, 'new file')} expected, {arrived:,} arrived"
            return replace(done, exit_code=Exit.INCOMPLETE, why=why)
        return done

    def go_on(self, first: int) -> ErrandDone:
        """Run the steps in order, starting at one, until one fails."""
        if self._run is None and has_ledger(self._into):
            with Ledger(ledger_path(self._into)) as ledger:
                self._run = ledger.last_haul()  # before a step has a run of its own
        steps: list[StepDone] = []
        for step in self._job.steps[first:]:
            self._observer.note(StepBegun(step))
            began = timestamp()
            done = self._take(step)
            steps.append(done)
            self._record(done, began)
            if done.exit_code is Exit.NOTHING_CHOSEN and step.what == "unpack":
                continue  # those of the last time are unpacked and gone, perhaps
            if done.exit_code:
                self._observer.note(StepFailed(step, done.exit_code))
                return ErrandDone(None, steps, done.exit_code)
        return ErrandDone(None, steps, Exit.GOOD)

    def plan(self, values: Values) -> ErrandPlan:
        """Plan a run; fetches and writes nothing."""
        shown = list(values.shown())
        policy = make_policy(self._job.haul)
        with open_access(self._document, self._job, self._observer) as access:
            found = discover_offers(self._job, access, self._memory.offered(), self._observer)
            planned = plan_haul(found.store, self._into, policy.layout)
        planned = replace(planned, incomplete=bool(found.troubles))
        return ErrandPlan(shown, planned, self._changes(found), self._job.steps)

    def _haul(self) -> Haul:
        """Haul what the sources offer after their rules."""
        request, observer = self._job.haul, self._observer
        require_not_vanished(request.handling, self._into)
        policy = make_policy(request)
        with (
            open_access(self._document, self._job, observer) as made,
            connected_to(request.handling.cluster, observer) as cluster,
            keeping_answers(
                made, self._into, policy.pace.first_host_lanes, is_fetched_here=cluster is None
            ) as (access, asking),
        ):
            offered = self._memory.offered()
            found = discover_offers(self._job, access, offered, observer, asking)
            store = found.store
            if request.handling.cart is not None:
                find = Find((offer, True) for offer in store)
                observer.note(
                    CartKept(
                        fill_cart(find, request.handling.cart, Discovery(), observer, add=False)
                    )
                )
                # What a user has taken out of it stays out.
                store = OfferStore(
                    offer for offer in Cart.load(request.handling.cart) if store.has(offer.id)
                )
            account = carry(request, policy, store, access, observer, cluster=cluster)
            hauled = Haul(account, request, found.seen, found.troubles)
            gone: list[Arrival] = []
            there = 0
            if not hauled.exit_code and found.gone:
                gone, there = self._ask_for_gone(found, access, policy.pace.first_host_lanes)
        self.offered, self.clocks = found.offered, found.clocks
        self._run = account.run
        observer.note(HaulEnded(hauled))
        if not hauled.exit_code:
            self._see_to_gone(gone, there)
        elif self._job.steps:
            observer.note(StepsLeft(self._job.steps[0]))
        return hauled

    def _ask_for_gone(self, found: Found, access: Access, lanes: int) -> tuple[list[Arrival], int]:
        """Ask once for each file that is no longer listed; a listing alone is no proof.

        What is still there counts as offered, so that it is asked for again the next time.

        Returns:
            The files that are gone, and how many are still there or cannot be requested.
        """
        unlisted = find_gone(self._into, found.gone)
        gone = confirm_gone(unlisted, access, lanes)
        with KnownFiles(ledger_path(self._into)) as held:
            there = {each.archive_key for each in unlisted} - {each.archive_key for each in gone}
            for identifier, mark in found.gone.items():
                if held.key_of(identifier) in there:
                    found.offered[mark][identifier] = None
        return gone, len(unlisted) - len(gone)

    def _see_to_gone(self, gone: Sequence[Arrival], there: int) -> None:
        """Report files that are no longer offered, and move them aside if requested."""
        if there:
            self._observer.note(UnlistedButThere(there))
        if not gone:
            return
        kept = None
        if self._document.top.keys.get("gone", "keep") != "keep":
            kept = len(move_gone_aside(self._into, gone))
        aside = self._into / ".willow" / "aside"
        self._observer.note(OfferedNoMore(len(gone), gone[0].path, kept, aside))

    def _take(self, step: Step) -> StepDone:
        """Run one step and report it."""
        if step.request is None:
            return StepDone(step, None, self._run_program(step.words))
        try:
            result, code = self._do(step)
        except WillowCartError as error:
            self._observer.note(error)
            return StepDone(step, None, code_for(error))
        self._observer.note(StepEnded(step, result))
        return StepDone(step, result, code)

    def _record(self, done: StepDone, began: str) -> None:
        """Record a step with the haul that it followed, for one receipt of the whole run."""
        if self._run is None:
            return  # nothing was ever hauled there
        record = StepRecord(
            done.step.number, without_secrets(done.step.typed), began, timestamp(),
            int(done.exit_code), done.counts,
        )  # fmt: skip
        own = None
        # Archives may be in another destination, in whose ledger their run is.
        if isinstance(done.result, UnpackResult) and all(
            root.resolve() == self._into.resolve() for root, _ in done.result.account.archives
        ):
            own = done.result.account.run
        with Ledger(ledger_path(self._into)) as ledger, ledger.transaction():
            ledger.record_step(self._run, record, own)

    def _do(self, step: Step) -> tuple[object, Exit]:
        """Carry out the request of a step."""
        match step.request:
            case UnpackRequest():
                unpacked = unpack(step.request, self._observer)
                return unpacked, unpacked.exit_code
            case CombineRequest():
                combined = combine(step.request, self._observer)
                return combined, combined.exit_code
            case PackRequest():
                packed = pack(step.request)
                return packed, packed.exit_code
            case ReceiptRequest():
                with receipt(step.request) as written:
                    return written, Exit.GOOD
        raise TypeError(step.what)

    def _run_program(self, words: Sequence[str]) -> Exit:
        try:
            done = subprocess.run(words, stdin=subprocess.DEVNULL, check=False)  # noqa: S603
        except OSError as error:
            self._observer.note(CannotRun("", f"{words[0]} cannot be run: {plainly(error)}"))
            return Exit.INCOMPLETE
        return Exit.INCOMPLETE if done.returncode else Exit.GOOD

    def _changes(self, found: Found) -> Changes | None:
        """Find what is new, changed and gone."""
        if not has_ledger(self._into):
            return None
        new = changed = missing = 0
        with KnownFiles(ledger_path(self._into)) as held, FileTree(self._into) as tree:
            for offer in found.store:
                arrival = held.get(offer.id)
                new += arrival is None
                if arrival is None:
                    continue
                changed += offer.size not in (None, arrival.size)
                missing += arrival.instead != "members" and tree.stamp(arrival.lies_at) is None
        gone = [each.path for each in find_gone(self._into, found.gone)]
        return Changes(new, changed, missing, gone)
