"""Bringing what was chosen home for a command, and accounting for it."""

from __future__ import annotations

import gc
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.access.kept_answers import KeptAnswers
from willow_cart.checks import ChecksumBook
from willow_cart.cli.detaching import Background, entered
from willow_cart.cli.log import LogFile
from willow_cart.cli.running import shown_command, stoppable
from willow_cart.cli.telling import is_heard, summed_up, tell, tell_each
from willow_cart.cli.unpack import show_unpacked
from willow_cart.cli.view import PlainView, QuietView
from willow_cart.errors import UnreadableLedger
from willow_cart.exits import Exit
from willow_cart.hauling import all_of, bring_home
from willow_cart.hauling.annex import Annex, pays
from willow_cart.jobs.haul import HaulRequest
from willow_cart.jobs.hauling_options import HandlingOptions
from willow_cart.model import State
from willow_cart.records import Held, has_ledger, ledger_path
from willow_cart.redaction import without_secrets
from willow_cart.shelf import Shelf
from willow_cart.sources.checksum_lists import lists_beside, read_lists
from willow_cart.sources.look import Asking
from willow_cart.units import count_of

if TYPE_CHECKING:
    from willow_cart.access import Access
    from willow_cart.cli.view import View
    from willow_cart.hauling import Account, Wishes


def bring(
    request: HaulRequest,
    wishes: Wishes,
    offers: Shelf,
    access: Access,
    background: Background | None = None,
    *,
    troubles: int = 0,
) -> Exit:
    """Haul what was chosen, and account for it.

    Args:
        request: the options of a haul.
        wishes: what they come to.
        offers: what was chosen.
        access: how places are talked to.
        background: what holds the terminal meanwhile; None if it is held.
        troubles: how many lines or places of the sources could not be taken.
    """
    begun = background.begun if background else None
    with stoppable() as stop:
        view = make_view(request.into, begun)
        account = carry(
            request, wishes, offers, access, view=view, stop=stop, background=background
        )
    _sum_up(account, request.into, troubles=troubles)
    _tell_twins(account, request.twins)
    if request.unpack:
        show_unpacked(account)
    if account.unhandled:
        tell(
            f"the command on arrival failed for {count_of(account.unhandled, 'file')}; the same"
            " haul runs it for them again"
        )
    if account.exit_code is Exit.GOOD and troubles:
        return Exit.INCOMPLETE
    return account.exit_code


@contextmanager
def keeping_answers(access: Access, into: Path, most_open: int) -> Iterator[tuple[Access, Asking]]:
    """Have answers to the look become the download, and ask nothing that an earlier haul knows.

    Args:
        access: how places are talked to.
        into: the destination.
        most_open: how many large answers of one host are left open.

    Yields:
        How places are talked to from now on, and what becomes of answers.
    """
    import sqlite3

    folder = next(each for each in (into, *into.absolute().parents) if each.is_dir())
    with ExitStack() as stack:
        kept = stack.enter_context(KeptAnswers(access, folder, most_open))
        is_known: Callable[[str], bool] = lambda address: False  # noqa: ARG005, E731
        if has_ledger(into):
            with suppress(sqlite3.Error, UnreadableLedger):  # the haul says what is wrong with it
                held = stack.enter_context(Held(ledger_path(into)))
                held.is_known("")
                is_known = lambda address: held.is_known(without_secrets(address))  # noqa: E731
        yield kept, Asking(is_known, kept.keep)


def _with_checksums(request: HandlingOptions, offers: Shelf, access: Access) -> Shelf:
    """The offers with what checksum lists promise of them: those named, and those beside them."""
    if not (request.checksums or request.find_checksums):
        return offers
    entries, no_lines = read_lists(request.checksums, access)
    tell_each(no_lines)
    if request.find_checksums:
        for found in lists_beside(offers, access):
            entries += found.entries
            tell(
                f"{found.place} promises {count_of(len(found.entries), 'checksum')}; it lies beside"
                " the files, and whoever could change them could change it too"
            )
    promising, troubles = ChecksumBook(entries).promise(offers)
    promised = Shelf(promising)
    promised.twice = offers.twice
    tell_each(troubles)
    if bare := sum(not offer.checksums for offer in promised):
        verb = "has" if bare == 1 else "have"
        tell(f"{count_of(bare, 'file')} of {len(promised):,} {verb} no checksum in the lists")
    return promised


def carry(
    request: HaulRequest,
    wishes: Wishes,
    offers: Shelf,
    access: Access,
    *,
    view: View,
    stop: threading.Event,
    background: Background | None = None,
) -> Account:
    """Haul what was chosen, held against the checksum lists, with a log and an entry in the runs.

    Args:
        request: the options of a haul, and what was typed.
        wishes: what they come to.
        offers: what was chosen.
        access: how places are talked to.
        view: who is told what happens.
        stop: ends it early.
        background: its own entry, if it has no terminal.
    """
    offers = _with_checksums(request, offers, access)
    command = shown_command(request)
    log = _open_log(request.log) if request.log is not None else None
    # The offers live until the end; looking through them for garbage again and again would cost a
    # haul of thousands of small files a tenth of its time.
    gc.freeze()
    # Forked now: showing what happens takes threads.
    annex = Annex(access, wishes) if pays(len(offers), wishes) else None
    try:
        with entered(command, request.into, background, view) as ending, view:
            account = bring_home(
                offers,
                request.into,
                access,
                wishes,
                command=command,
                note=request.note,
                observer=view if log is None else all_of(log, view),
                stop=stop,
                annex=annex,
            )
            ending.exit_code = account.exit_code
        if log is not None:
            log.ended(account)
        return account
    finally:
        gc.unfreeze()
        if annex is not None:
            annex.close()
        if log is not None:
            log.close()


def make_view(
    into: Path, begun: Callable[[], None] | None = None, *, progress: bool | None = None
) -> View:
    """What shows a haul on a terminal or in a notebook, or tells of it where there is neither.

    Args:
        into: the destination.
        begun: called once it is known what is to be done.
        progress: whether bars are drawn; None for where somebody looks.
    """
    if progress is None:
        progress = _in_notebook() or (sys.stderr.isatty() and not is_heard())
    if progress:
        from willow_cart.cli.bars import LiveView

        return LiveView(into)
    # Drawing is not imported where nothing is drawn: it takes longer than a small haul.

    return QuietView() if is_heard() else PlainView(begun)


def _in_notebook() -> bool:
    """Whether a notebook runs this, and has what bars are drawn by there."""
    return "ipykernel" in sys.modules and find_spec("ipywidgets") is not None


def _open_log(path: Path) -> LogFile:

    return LogFile(path)


def _tell_twins(account: Account, twins: str) -> None:

    if not account.twins:
        return
    path, other = account.twin
    verb = "has" if account.twins == 1 else "have"
    done = {
        "keep": f"such as {path} and {other}; --twins link or skip would not keep them twice",
        "link": f"and the name of one leads to the other, such as {path} to {other}",
        "skip": f"and was left out for it, such as for {other}",
    }
    tell(
        f"{count_of(account.twins, 'file')} {verb} the same bytes as another one here, "
        + done[twins]
    )


def _sum_up(account: Account, into: Path, *, troubles: int) -> None:

    sys.stdout.flush()
    print(summed_up(account, into), flush=True)
    if account.interrupted:
        tell(
            f"stopped with {count_of(account.remaining, 'file')} to come; the same command goes"
            " on from where it stopped"
        )
    elif account.unsound:
        verb = "is" if account.unsound == 1 else "are"
        tell(f"{count_of(account.unsound, 'file')} arrived and {verb} broken inside; see above")
    elif account.counts[State.FAILED]:
        tell("the same command tries again what failed; what arrived is not fetched twice")
    if troubles:
        tell(f"{count_of(troubles, 'line or place', 'lines or places')} of the sources could not be"
             " taken; see above")  # fmt: skip
