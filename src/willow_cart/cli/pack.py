"""`pack`: what lies in a folder, as one archive."""

from __future__ import annotations

from willow_cart.cli.screen import show_line
from willow_cart.cli.telling import tell_each
from willow_cart.errors import nothing_there
from willow_cart.exits import Exit
from willow_cart.holdings import holdings_at
from willow_cart.jobs.looking_policies import make_choosing
from willow_cart.jobs.pack import PackRequest
from willow_cart.packing import pack, require_form
from willow_cart.units import count_of, format_size


def run(request: PackRequest) -> int:
    """Pack, and account for it."""
    from dataclasses import replace

    require_form(request.to)
    own = request.to.resolve()
    found = {
        replace(each.offer, number=number): each
        for number, each in enumerate(holdings_at(request.folder), 1)
        if each.file.resolve() != own
    }
    if not found:
        raise nothing_there(request.folder, "file")
    choice = make_choosing(request).choose(found)
    choice.require_some()
    packed = pack(
        (found[offer] for offer in choice.chosen), request.to, overwrite=request.overwrite
    )
    tell_each(packed.troubles)
    show_line(
        f"{count_of(packed.files, 'file')}, {format_size(packed.bytes)}; packed into {request.to},"
        f" {format_size(packed.size)}"
    )
    show_line(f"sha256:{packed.sha256}", dim=True)
    return Exit.CHECK_FAILED if packed.troubles else Exit.GOOD
