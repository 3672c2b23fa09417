"""The options for what becomes of archives, for hauls and for archives that are here."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from willow_cart.errors import BadOption
from willow_cart.jobs.haul import HaulRequest
from willow_cart.jobs.hauling_options import UnpackingOptions

if TYPE_CHECKING:
    from collections.abc import Sequence

    from willow_cart.archives import Bounds
    from willow_cart.hauling import Account, Unpacking


def read_bounds(text: str | None) -> Bounds:
    """Read how far an archive may swell.

    Args:
        text: as it was typed; None for as far as usual.

    Raises:
        BadOption: it cannot be read.
    """
    from willow_cart.archives import Bounds

    return Bounds() if text is None else Bounds.parse(text)


def make_unpacking(
    request: UnpackingOptions, name_parts: str, archives: Sequence[str]
) -> Unpacking:
    """How the options want archives unpacked.

    Raises:
        BadOption: one of them cannot be understood.
    """
    from willow_cart.access.sign_ins import read_secret
    from willow_cart.filing import Template
    from willow_cart.hauling import Unpacking

    secret = None
    if request.archive_password:
        secret = os.fsencode(read_secret(request.archive_password, "--archive-password").value)
    return Unpacking(
        tuple(archives),
        Template(request.unpack_to, name_parts) if request.unpack_to is not None else None,
        tuple(request.inside),
        lift=request.lift,
        nested=request.nested,
        remove=request.then == "remove",
        bounds=read_bounds(request.swell_at_most),
        password=secret,
    )


def require_of_use(request: HaulRequest) -> None:
    """Refuse options for unpacking where nothing is unpacked.

    Raises:
        BadOption: there is one.
    """
    given = {
        "--unpack-to": request.unpack_to is not None,
        "--inside": request.inside,
        "--lift": request.lift,
        "--nested": request.nested,
        "--then": request.then != "keep",
        "--swell-at-most": request.swell_at_most is not None and not opens_archives(request),
        "--archive-password": request.archive_password,
    }
    for option, is_given in given.items():
        if is_given:
            raise BadOption(option, "is of no use without --unpack", "give that as well")


def opens_archives(request: HaulRequest) -> bool:
    """Return whether archives are opened although they are not unpacked."""
    return request.inspect or request.as_ == "archive"


def show_unpacked(account: Account) -> None:
    """Write what came of unpacking."""
    from willow_cart.cli.screen import show_line
    from willow_cart.units import count_of

    line = f"{count_of(account.unpacked, 'archive')} unpacked: {count_of(account.members, 'file')}"
    if account.left_out:
        line += f", {account.left_out:,} left out"
    if account.unpacked_before:
        line += f"; {account.unpacked_before:,} unpacked before"
    if account.not_unpacked:
        line += f"; {count_of(account.not_unpacked, 'archive')} could not be unpacked"
    show_line(line)
