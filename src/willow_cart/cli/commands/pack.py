"""`pack`: pack a folder into one archive."""

from __future__ import annotations

from willow_cart.cli.screen import show_line, tell_each
from willow_cart.commands.pack import PackRequest, PackResult, pack
from willow_cart.events import NotPortable
from willow_cart.views.words import lines_of


def run(request: PackRequest) -> int:
    """Pack, and print a summary."""
    done = pack(request)
    show(done)
    return done.exit_code


def show(done: PackResult) -> None:
    """Print the result."""
    packed = done.packed
    tell_each(packed.troubles)
    tell_each(lines_of(NotPortable(packed.unportable)))
    show_line(done.summary)
    show_line(f"sha256:{packed.sha256}", dim=True)
