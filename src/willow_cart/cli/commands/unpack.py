"""`unpack`: unpack archives on this machine."""

from __future__ import annotations

from willow_cart.cli.console import Console
from willow_cart.cli.messages import tell
from willow_cart.cli.screen import show_line
from willow_cart.commands.unpack import UnpackRequest, unpack
from willow_cart.hauling.summary import HaulSummary
from willow_cart.views.words import unpacked_line


def run(request: UnpackRequest) -> int:
    """Unpack, and print a summary."""
    account = unpack(request, Console())
    show(account)
    return account.exit_code


def show(account: HaulSummary) -> None:
    """Print the result."""
    show_line(unpacked_line(account))
    if account.interrupted:
        tell("stopped before everything was unpacked; run the same command to resume")
