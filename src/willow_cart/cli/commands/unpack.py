"""`unpack`: unpack archives on this machine."""

from __future__ import annotations

from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_line, tell
from willow_cart.commands.unpack import UnpackRequest, UnpackResult, unpack


def run(request: UnpackRequest) -> int:
    """Unpack, and print a summary."""
    done = unpack(request, Console())
    show(done)
    return done.exit_code


def show(done: UnpackResult) -> None:
    """Print the result."""
    show_line(done.summary)
    if done.account.interrupted:
        tell("stopped before everything was unpacked; run the same command to resume")
