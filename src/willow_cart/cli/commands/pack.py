"""`pack`: pack a folder into one archive."""

from __future__ import annotations

from willow_cart.cli.messages import tell_each
from willow_cart.cli.screen import show_line
from willow_cart.commands.pack import PackRequest, pack
from willow_cart.events import NotPortable
from willow_cart.packing import Packed
from willow_cart.views.words import lines_of, packed_line


def run(request: PackRequest) -> int:
    """Pack, and print a summary."""
    packed = pack(request)
    show(request, packed)
    return packed.exit_code


def show(request: PackRequest, packed: Packed) -> None:
    """Print the result."""
    tell_each(packed.troubles)
    tell_each(lines_of(NotPortable(packed.unportable)))
    show_line(packed_line(packed, request.to))
    show_line(f"sha256:{packed.sha256}", dim=True)
