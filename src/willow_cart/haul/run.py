"""One haul from its plan to its account."""

from __future__ import annotations

import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from willow_cart.access import Access, Patience
from willow_cart.addresses import host_of
from willow_cart.errors import CannotStore
from willow_cart.filing import Layout, make_plan
from willow_cart.haul.account import Account
from willow_cart.haul.carrier import Carrier, Trip
from willow_cart.haul.crew import Crew
from willow_cart.haul.destination import Destination
from willow_cart.haul.docket import Docket
from willow_cart.haul.filer import Filer
from willow_cart.haul.observer import Observer
from willow_cart.haul.partials import PartialStore
from willow_cart.model import Offer
from willow_cart.records import Arrival, Ledger, PartRecord, Result, ledger_path


@dataclass(frozen=True, slots=True)
class Wishes:
    """How a haul is to be done.

    Attributes:
        layout: the rule for folders.
        lanes: how many files are fetched at a time.
        lanes_per_host: how many of them from one host.
        patience: when to try again.
        accept_anything: whether pages are filed that come where something else was asked for.
    """

    layout: Layout = Layout.TREE
    lanes: int = 8
    lanes_per_host: int = 4
    patience: Patience = field(default_factory=Patience)
    accept_anything: bool = False


def bring_home(
    offers: Sequence[Offer],
    into: Path | str,
    access: Access,
    wishes: Wishes = Wishes(),
    *,
    command: str = "",
    observer: Observer | None = None,
    stop: threading.Event | None = None,
) -> Account:
    """Bring offers home.

    A file appears under its name only whole and checked. What does not come is counted, entered
    in the ledger and told to the observer, and the others go on. Whatever ends the haul, the same
    call goes on from where it stopped.

    Args:
        offers: what is wanted.
        into: the destination; made if it is not there.
        access: how places are talked to.
        wishes: how it is to be done.
        command: what the person typed, for the ledger; without secrets.
        observer: who is told what happens.
        stop: set it to end the haul early.

    Returns:
        The account: counts, bytes, and the exit code that follows from them.

    Raises:
        UnusableDestination: nothing can be hauled there.
        UnreadableLedger: the ledger there is damaged or of a later version.
        CannotStore: the ledger cannot be written any more.
    """
    began = time.monotonic()
    into = Path(into)
    observer = observer or Observer()
    stop = stop or threading.Event()
    with Destination(into) as destination, Ledger(ledger_path(into), create=True) as ledger:
        run = ledger.begin_run(command)
        held = ledger.held()
        parts = _file_what_was_sealed(ledger, run, destination, held)
        plan = make_plan(
            offers, wishes.layout, {address: arrival.path for address, arrival in held.items()}
        )
        observer.planned(plan)
        partials = PartialStore(destination.own / "partial", parts)
        partials.sweep()
        account = Account(run, len(plan.files))
        trips = [Trip(number, filed) for number, filed in enumerate(plan.files, 1)]

        def settled(result: Result) -> None:
            account.add(result)
            observer.settled(plan.files[result.number - 1], result)

        docket = Docket(
            ((host_of(trip.offer.address), trip) for trip in trips), wishes.lanes_per_host
        )
        filer = Filer(ledger, run, destination, settled)
        carrier = Carrier(
            access, destination, partials, filer, held, observer, stop, wishes.accept_anything
        )
        try:
            Crew(carrier, filer, wishes.patience, docket).work(wishes.lanes)
        finally:
            filer.close()
        destination.sync_folders()
        account.seconds = time.monotonic() - began
        account.received = sum(trip.received for trip in trips)
        account.interrupted = account.remaining > 0
        ledger.end_run(run, account.exit_code)
    return account


def _file_what_was_sealed(
    ledger: Ledger, run: int, destination: Destination, held: dict[str, Arrival]
) -> dict[str, PartRecord]:
    """Give the files their names that an earlier run had checked when it was cut off.

    Args:
        ledger: where they are entered.
        run: the run that they are entered under.
        destination: where they get their names.
        held: what the ledger holds, by address; they are added to it.

    Returns:
        The partial files that are left to go on with, by address.
    """
    left = {}
    for address, part in ledger.parts().items():
        if part.sealed is None:
            left[address] = part
            continue
        with ledger.transaction():
            file = destination.own / "partial" / part.file
            try:
                if file.is_file():
                    earlier = held.get(address)
                    if earlier is None or not destination.holds(earlier):
                        destination.make_way(part.sealed.path)
                    destination.place(str(file), part.sealed.path)
            except CannotStore:
                # It is whole all the same; the haul itself will say what stands in its way.
                left[address] = part
                continue
            if destination.holds(part.sealed):
                ledger.record_arrival(run, part.sealed)
                held[address] = part.sealed
            else:
                ledger.forget_part(address)
    return left
