"""`unpack`: take out what is in archives that are here."""

from __future__ import annotations

from willow_cart.cli.running import shown_command, stoppable
from willow_cart.cli.screen import show_line
from willow_cart.cli.telling import tell
from willow_cart.cli.view import PlainView
from willow_cart.hauling import Account, unpack
from willow_cart.jobs.hauling_policies import make_unpacking
from willow_cart.jobs.looking_policies import make_choosing
from willow_cart.jobs.unpack import UnpackRequest
from willow_cart.units import count_of


def run(request: UnpackRequest) -> int:
    """Unpack, and account for it."""
    wish = make_unpacking(request, request.name_parts, ())
    choosing = make_choosing(request)
    with stoppable() as stop:
        account = unpack(
            request.archives,
            request.into,
            wish,
            choosing,
            command=shown_command(request),
            observer=PlainView(),
            stop=stop,
        )
    show_unpacked(account)
    if account.interrupted:
        tell("stopped before all was unpacked; the same command goes on")
    return account.exit_code


def show_unpacked(account: Account) -> None:
    """Write what came of unpacking."""
    line = f"{count_of(account.unpacked, 'archive')} unpacked: {count_of(account.members, 'file')}"
    if account.left_out:
        line += f", {account.left_out:,} left out"
    if account.unpacked_before:
        line += f"; {account.unpacked_before:,} unpacked before"
    if account.not_unpacked:
        line += f"; {count_of(account.not_unpacked, 'archive')} could not be unpacked"
    show_line(line)
