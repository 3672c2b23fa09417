"""`unpack`: take out what is in archives that are here."""

from __future__ import annotations

from willow_cart.cli.options import make_choosing
from willow_cart.cli.unpacking import make_unpacking, show_unpacked
from willow_cart.jobs.unpack import UnpackRequest


def run(request: UnpackRequest) -> int:
    """Unpack, and account for it."""
    from willow_cart.cli.running import shown_command, stoppable
    from willow_cart.cli.telling import tell
    from willow_cart.cli.view import PlainView
    from willow_cart.hauling import unpack

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
