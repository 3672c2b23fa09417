"""`haul`: fetch, check and file."""

from __future__ import annotations

import sys

from willow_cart.cli.background import Background, detach
from willow_cart.cli.console import Console
from willow_cart.cli.render import preview
from willow_cart.cli.screen import show_line, tell
from willow_cart.commands.haul import Haul, HaulPlan, HaulRequest, haul
from willow_cart.commands.request import shown_command
from willow_cart.commands.result import summed_up
from willow_cart.commands.unpack import unpacked_line
from willow_cart.hauling.summary import HaulSummary
from willow_cart.model import State
from willow_cart.units import count_of


def run(request: HaulRequest) -> int:
    """Haul, and print a summary; in the background if requested."""
    if not request.handling.detach:
        return _run(request, None)
    background = detach(shown_command(request), request.into)
    if isinstance(background, int):
        return background
    try:
        return _run(request, background)
    except BaseException:
        background.failed()
        raise


def _run(request: HaulRequest, background: Background | None) -> int:
    console = Console(background.begun if background else None)
    done = haul(request, console, run=background.run if background else None)
    if isinstance(done, HaulPlan):
        preview(done)
    else:
        show(done)
    return done.exit_code


def show(done: Haul) -> None:
    """Print the result of a haul, and what to do next."""
    account, request = done.account, done.request
    sys.stdout.flush()
    show_line(summed_up(account, request.into, done.offered))
    sys.stdout.flush()
    _tell_rest(account)
    if done.skipped:
        tell(f"{count_of(done.skipped, 'source line')} skipped (see above)")
    _tell_twins(account, request.handling.twins)
    if request.unpacking.unpack:
        show_line(unpacked_line(account))
    if account.unhandled:
        tell(
            f"the command on arrival failed for {count_of(account.unhandled, 'file')}; run"
            " the same command to run it for them again"
        )


def _tell_rest(account: HaulSummary) -> None:
    """Print what to do about files that did not arrive."""
    if account.interrupted:
        left = count_of(account.remaining, "file")
        tell(f"stopped; {left} left. Run the same command to resume.")
    elif account.unsound:
        tell(f"{count_of(account.unsound, 'file')} arrived otherwise than expected (see above)")
    elif account.counts[State.FAILED]:
        tell("run the same command to retry what failed; files that arrived are not fetched again")


def _tell_twins(account: HaulSummary, twins: str) -> None:
    if not account.twins:
        return
    path, other = account.twin
    verb = "has" if account.twins == 1 else "have"
    done = {
        "keep": f"such as {path} and {other}; use --twins link or skip to keep one copy",
        "link": f"linked to it, such as {path} to {other}",
        "skip": f"left out, such as a copy of {other}",
    }
    tell(
        f"{count_of(account.twins, 'file')} {verb} the same content as another file here; "
        + done[twins]
    )
