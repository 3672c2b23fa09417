"""Move hauled files to new paths, together with their ledger entries; all or none.

What is to be moved is first written down in the ledger. Whatever ends it after that, the next haul
or refiling ends the moves. First all files are taken from where they are to `.willow/moving`, so
that two may change names; then that folder is renamed to `.willow/moved`, which tells that no file
is at its old path any more; then each gets its new name.
"""

from __future__ import annotations

import dataclasses
import stat
from collections.abc import Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from willow_cart.destination import Destination, cannot_store, is_case_sensitive
from willow_cart.errors import CannotStore, Exit
from willow_cart.filing import Plan, Template, make_plan
from willow_cart.filing.plan import FilingRule
from willow_cart.ledger.entries import Arrival, Move
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.model import OWN_FOLDER, Offer
from willow_cart.offer_store import OfferStore
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.structs import Value

_MOVING = f"{OWN_FOLDER}/moving"
_MOVED = f"{OWN_FOLDER}/moved"


class Refiled(Value):
    """The result of refiling.

    Attributes:
        plan: where everything belongs by the rule.
        moves: the moves, made or planned.
        staying: paths of missing and changed files, which were left alone.
    """

    plan: Plan
    moves: Sequence[Move]
    staying: Sequence[str]

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.staying else Exit.GOOD


class _AsFetched(Value):
    """A template in which `{fetched}` is the time of arrival of each file.

    Attributes:
        template: as it was given.
        times: when each file was fetched, in UTC, ISO 8601, by `Offer.unique`.
    """

    template: Template
    times: Mapping[str, str]

    def wish_for(self, offer: Offer) -> str:
        """Return the desired path by the template."""
        fetched = datetime.fromisoformat(self.times[offer.unique])
        return dataclasses.replace(self.template, fetched=fetched).wish_for(offer)


def refile(into: Path, rule: FilingRule, *, only_look: bool = False) -> Refiled:
    """Move the files of a destination to the paths of a rule.

    Args:
        rule: the new one. It knows of a file what its address and its path say, when it arrived and
            when it was changed last.
        only_look: whether to find out what would be moved, and no more.

    Raises:
        FieldsMissing: the rule has a field that some files have no value for.
        UnreadableLedger: nothing was hauled there, or its ledger cannot be read.
        UnusableDestination: a haul is running there.
        CannotStore: something is in the way, or a file cannot be moved; none is then.
    """
    Ledger(ledger_path(into)).close()  # a folder that nothing was hauled into is left as it is
    with Destination(into) as destination, Ledger(ledger_path(into)) as ledger:
        end_moves(ledger, destination)
        arrivals = {arrival.path: arrival for arrival in ledger.latest_arrivals()}
        staying = [
            path for path, each in arrivals.items() if destination.stamp(path) != each.own_stamp
        ]
        for path in staying:
            del arrivals[path]
        by_offer = {_offer_of(arrival).unique: arrival for arrival in arrivals.values()}
        if isinstance(rule, Template) and "{fetched" in rule.text:
            rule = _AsFetched(rule, {each: by_offer[each].time for each in by_offer})
        offers = OfferStore(map(_offer_of, by_offer.values()))
        plan = make_plan(offers, rule, case_sensitive=is_case_sensitive(into))
        moves = [
            Move(filed.offer.address, here, filed.path, f"{number:x}")
            for number, filed in enumerate(plan)
            if (here := by_offer[filed.offer.unique].path) != filed.path
        ]
        if not only_look:
            _require_free(moves, destination)
            _move(moves, ledger, destination)
    return Refiled(plan, moves, staying)


def end_moves(ledger: Ledger, destination: Destination) -> None:
    """Complete or revert a refiling that was interrupted.

    Raises:
        CannotStore: a file cannot be moved.
    """
    if moves := ledger.moves():
        _carry_on(moves, ledger, destination)
        _enter(moves, ledger, destination)


def _offer_of(arrival: Arrival) -> Offer:
    """Return an offer with the facts that the ledger has about a file.

    It keeps the name that it has now.
    """
    name = arrival.path.rpartition("/")[2]
    return Offer(
        arrival.address,
        name=name,
        size=arrival.size,
        modified=parse_date(arrival.last_modified),
        digest=arrival.digest,
    )


def _require_free(moves: Sequence[Move], destination: Destination) -> None:
    """Refuse to start if a target path is occupied by a file that is not moved.

    Raises:
        CannotStore: something does.
    """
    leaving = {move.old for move in moves}
    for move in moves:
        there = destination.status(move.new)
        # A folder may be empty by then, and is deleted.
        if move.new not in leaving and there is not None and not stat.S_ISDIR(there.st_mode):
            raise CannotStore(move.new, f"blocks {move.old}", "move it, or use another layout")


def _move(moves: Sequence[Move], ledger: Ledger, destination: Destination) -> None:
    """Move files, all of them or none.

    Raises:
        CannotStore: one cannot be moved; those that were are back where they were.
    """
    if not moves:
        return
    # A kill at the very end of an earlier one leaves its folder, which must not speak for this one.
    for left in (_MOVING, _MOVED):
        try:
            destination.delete_folder(left)
        except FileNotFoundError:
            pass
        except OSError:
            raise CannotStore(
                str(destination.full_path(left)),
                "contains files that are in no ledger",
                "check them and move them",
            ) from None
    with ledger.transaction(lasting=True):
        ledger.keep_moves(moves)
    try:
        _carry_on(moves, ledger, destination)
    except CannotStore:
        _take_back(moves, destination)
        with ledger.transaction(lasting=True):
            ledger.forget_moves()
        raise
    _enter(moves, ledger, destination)


def _carry_on(moves: Sequence[Move], ledger: Ledger, destination: Destination) -> None:
    """Continue moving files after an interruption.

    A file that was changed since, or put at a path meanwhile, is not the one to be moved.

    Raises:
        CannotStore: a file cannot be moved.
    """
    if destination.status(_MOVED) is None:
        for move in moves:
            known = ledger.latest_at(move.old)
            is_ours = known is not None and destination.stamp(move.old) == known.own_stamp
            if is_ours and destination.status(_moving(move)) is None:
                destination.take_away(move.old, _moving(move))
        _rename(destination, _MOVING, _MOVED)
    destination.drop_empty_folders(move.old for move in moves)
    for move in moves:
        if destination.status(_moved(move)) is not None:
            destination.place(_moved(move), move.new)


def _take_back(moves: Sequence[Move], destination: Destination) -> None:
    """Move all files back."""
    if destination.status(_MOVED) is not None:
        for move in moves:
            if destination.status(_moved(move)) is None:
                destination.take_away(move.new, _moved(move))
        _rename(destination, _MOVED, _MOVING)
        destination.drop_empty_folders(move.new for move in moves)
    for move in moves:
        if destination.status(_moving(move)) is not None:
            destination.place(_moving(move), move.old)
    destination.sync_folders()
    with suppress(FileNotFoundError):
        destination.delete_folder(_MOVING)


def _rename(destination: Destination, folder: str, to: str) -> None:
    """Rename a folder in `.willow`, and sync the moves into it.

    Raises:
        CannotStore: it cannot be renamed.
    """
    try:
        destination.make_folder(folder)
        destination.sync_folders()
        destination.move(folder, to, replaces=False)
    except OSError as error:
        raise cannot_store(folder, error) from None


def _enter(moves: Sequence[Move], ledger: Ledger, destination: Destination) -> None:
    """Sync the new names, and record them in the ledger."""
    destination.sync_folders()
    with ledger.transaction(lasting=True):
        ledger.move_arrivals(moves)
        ledger.forget_moves()
    with suppress(OSError):
        destination.delete_folder(_MOVED)


def _moving(move: Move) -> str:
    """Return the temporary path of a file between its old and its new name."""
    return f"{_MOVING}/{move.file}"


def _moved(move: Move) -> str:
    """Return the path for the state in which no file is at its old path any more."""
    return f"{_MOVED}/{move.file}"
