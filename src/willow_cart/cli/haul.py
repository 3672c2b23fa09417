"""`haul`: fetch, check, file."""

from __future__ import annotations

import argparse
import gc
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cli.connecting import add_connecting, make_access
from willow_cart.cli.detaching import Background, detach, entered
from willow_cart.cli.errand_writing import add_writing, write_errand
from willow_cart.cli.filing import add_filing, preview
from willow_cart.cli.options import Looker, add_choosing, add_sources
from willow_cart.cli.pacing import add_pace, make_wishes
from willow_cart.cli.running import shown_command, stoppable
from willow_cart.cli.unpacking import add_unpacking, show_unpacked
from willow_cart.exits import Exit

if TYPE_CHECKING:
    from willow_cart.access import Access
    from willow_cart.cli.bars import LiveView
    from willow_cart.cli.log import LogFile
    from willow_cart.cli.view import PlainView
    from willow_cart.haul import Account, Wishes
    from willow_cart.shelf import Shelf

BRIEF = "bring what is chosen home: fetch with resume, check, file"
DESCRIPTION = (
    "Fetch what the sources offer and the choosing options leave, check it, and file it. A file"
    " appears under its name only whole and checked. Run the same command again to go on after"
    " any break, and next month to renew what has changed."
)


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what haul understands."""
    add_sources(command)
    command.add_argument(
        "--into", type=Path, required=True, metavar="DIR", help="the folder to file into"
    )
    add_filing(command)
    command.add_argument(
        "--preview",
        action="store_true",
        help="show the tree that the folder would get; fetches and writes nothing",
    )
    command.add_argument(
        "--checksums",
        action="append",
        default=[],
        metavar="FILE|ADDRESS",
        help="a checksum list to hold what comes against, in GNU or BSD style",
    )
    command.add_argument(
        "--find-checksums",
        action="store_true",
        help="look for checksum lists beside the files: SHA256SUMS, md5sums.txt, name.sha256, ...",
    )
    command.add_argument(
        "--must-check",
        action="store_true",
        help="refuse what no checksum proves: none in the cart, in a list, or from its place",
    )
    command.add_argument(
        "--inspect",
        action="store_true",
        help="open archives, pictures, tables and JSON that arrive, and say what is broken inside",
    )
    command.add_argument(
        "--accept-anything",
        action="store_true",
        help="file also pages that come where something else was asked for",
    )
    command.add_argument(
        "--if-present",
        choices=["renew", "keep", "replace", "fail"],
        default="renew",
        metavar="renew|keep|replace|fail",
        help="of files that lie here already: ask whether they have changed, leave them unasked,"
        " fetch them anew, or count them as failed (%(default)s)",
    )
    command.add_argument(
        "--twins",
        choices=["keep", "link", "skip"],
        default="keep",
        metavar="keep|link|skip",
        help="of files whose bytes lie here under another name already: file them as well, have"
        " both names lead to one file, or leave them out (%(default)s)",
    )
    command.add_argument(
        "--cart",
        type=Path,
        metavar="FILE",
        help="leave a cart of what is hauled behind, as load writes it",
    )
    command.add_argument(
        "--tight",
        action="store_true",
        help="begin also where there is not enough room for everything",
    )
    command.add_argument(
        "--note", default="", metavar="TEXT", help="your own words about it, kept in the ledger"
    )
    command.add_argument(
        "--detach",
        action="store_true",
        help="hand the terminal back and go on in the background; willow-cart runs sees to it",
    )
    command.add_argument(
        "--log", type=Path, metavar="FILE", help="write what happens as JSON lines, one event each"
    )
    add_writing(command)
    command.add_argument(
        "--on-arrival",
        metavar="COMMAND",
        help="run a command for every file that arrives, without a shell: 'check {path}'; the guide"
        " has the fields",
    )
    add_choosing(command)
    unpacking = add_unpacking(command, "Archives are unpacked once everything has come.")
    unpacking.add_argument(
        "--unpack",
        action="append",
        default=[],
        metavar="PATTERN",
        help="unpack archives that match a wildcard pattern, as for --keep: '*.zip'",
    )
    add_connecting(command)
    add_pace(command)


def run(args: argparse.Namespace) -> int:
    """Look, choose, haul, and account for it, here or in the background."""
    _require_outside(args)
    if not args.detach:
        return _run(args, None)
    background = detach(shown_command(), args.into)
    if isinstance(background, int):
        return background
    try:
        return _run(args, background)
    except BaseException:
        background.failed()
        raise


def _run(args: argparse.Namespace, background: Background | None) -> int:
    from willow_cart.cart import Find, form_for
    from willow_cart.cli.load import put_in_cart
    from willow_cart.cli.telling import tell
    from willow_cart.sources import Look

    if args.cart is not None:
        form_for(args.cart)  # a name that says nothing is told before any work is done
    wishes = make_wishes(args)
    if args.write_errand is not None:
        write_errand(args.write_errand, "haul", sys.argv[2:])
    with make_access([args], wishes.lanes_per_host, args.stall_after) as access:
        looker = Looker(args, access, wishes.lanes_per_host)
        offers = looker.chosen()
        troubles = len(looker.found.troubles)
        if args.preview:
            preview(offers, args.into, wishes.layout)
            return Exit.INCOMPLETE if troubles else Exit.GOOD
        if args.cart is not None:
            # Left behind now, so that it is there whatever becomes of the haul.
            find = Find((offer, True) for offer in offers)
            tell(put_in_cart(find, args.cart, Look(sources=looker.found.sources), add=False))
        return bring(args, wishes, offers, access, background, troubles=troubles)


def bring(
    args: argparse.Namespace,
    wishes: Wishes,
    offers: Shelf,
    access: Access,
    background: Background | None = None,
    *,
    troubles: int = 0,
) -> Exit:
    """Haul what was chosen, and account for it.

    Args:
        args: the options of a haul.
        wishes: what they come to.
        offers: what was chosen.
        access: how places are talked to.
        background: what holds the terminal meanwhile; None if it is held.
        troubles: how many lines or places of the sources could not be taken.
    """
    from willow_cart.cli.telling import tell
    from willow_cart.units import count_of

    account = _haul(args, wishes, _with_checksums(args, offers, access), access, background)
    _sum_up(account, args.into, troubles=troubles)
    _tell_twins(account, args.twins)
    if args.unpack:
        show_unpacked(account)
    if account.unhandled:
        tell(
            f"the command on arrival failed for {count_of(account.unhandled, 'file')}; the same"
            " haul runs it for them again"
        )
    if account.exit_code is Exit.GOOD and troubles:
        return Exit.INCOMPLETE
    return account.exit_code


def _require_outside(args: argparse.Namespace) -> None:
    """Refuse a destination in the midst of what is hauled: every run would haul the one before.

    Raises:
        UnusableDestination: it is one.
    """
    from willow_cart.access.local import path_of
    from willow_cart.errors import UnusableDestination

    into = args.into.resolve()
    for source in args.sources:
        folder = Path(path_of(source) if source.startswith("file://") else source)
        if args.depth != 1 and folder.is_dir() and into.is_relative_to(folder.resolve()):
            raise UnusableDestination(
                str(args.into), f"lies in {source}, which is to be hauled", "name another --into"
            )


def _with_checksums(args: argparse.Namespace, offers: Shelf, access: Access) -> Shelf:
    """The offers with what checksum lists promise of them: those named, and those beside them."""
    from willow_cart.checks import ChecksumBook
    from willow_cart.cli.telling import tell, tell_each
    from willow_cart.shelf import Shelf
    from willow_cart.sources.checksum_lists import lists_beside, read_lists
    from willow_cart.units import count_of

    if not (args.checksums or args.find_checksums):
        return offers
    entries, no_lines = read_lists(args.checksums, access)
    tell_each(no_lines)
    if args.find_checksums:
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


def _haul(
    args: argparse.Namespace,
    wishes: Wishes,
    offers: Shelf,
    access: Access,
    background: Background | None,
) -> Account:
    from willow_cart.haul import all_of, bring_home

    view = _make_view(args.into, background)
    log = _open_log(args.log) if args.log is not None else None
    # The offers live until the end; looking through them for garbage again and again would cost a
    # haul of thousands of small files a tenth of its time.
    gc.freeze()
    try:
        with (
            stoppable() as stop,
            entered(shown_command(), args.into, background, view) as ending,
            view,
        ):
            account = bring_home(
                offers,
                args.into,
                access,
                wishes,
                command=shown_command(),
                note=args.note,
                observer=view if log is None else all_of(log, view),
                stop=stop,
            )
            ending.exit_code = account.exit_code
        if log is not None:
            log.ended(account)
        return account
    finally:
        if log is not None:
            log.close()


def _make_view(into: Path, background: Background | None) -> PlainView | LiveView:
    if sys.stderr.isatty():
        from willow_cart.cli.bars import LiveView

        return LiveView(into)
    # Drawing is not imported where nothing is drawn: it takes longer than a small haul.
    from willow_cart.cli.view import PlainView

    return PlainView(background.begun if background else None)


def _open_log(path: Path) -> LogFile:
    from willow_cart.cli.log import LogFile

    return LogFile(path)


def _tell_twins(account: Account, twins: str) -> None:
    from willow_cart.cli.telling import tell
    from willow_cart.units import count_of

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
    from willow_cart.cli.telling import counted, tell
    from willow_cart.model import State
    from willow_cart.units import count_of, format_duration, format_size

    line = (
        f"{counted(account.planned, account.counts)}; {format_size(account.received)} received"
        f" in {format_duration(account.seconds)} into {into}"
    )
    sys.stdout.flush()
    print(line, flush=True)
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
