"""The exit codes of the commands."""

from __future__ import annotations

from collections.abc import Collection
from enum import IntEnum

from willow_cart.errors import CannotStore, NothingChosen, TransferFailed, WillowCartError


class Exit(IntEnum):
    """An exit code of a command."""

    GOOD = 0
    """All arrived or was here already."""
    INCOMPLETE = 1
    """Something did not arrive."""
    NOT_UNDERSTOOD = 2
    """The command requests something that cannot be done."""
    NOTHING_CHOSEN = 3
    """Nothing matched."""
    CHECK_FAILED = 4
    """Something arrived and failed its check."""
    INTERRUPTED = 130
    """Interrupted by the user: 128 and the number of the signal, as in shells."""


def code_for(error: WillowCartError) -> Exit:
    """Return the exit code for an error that ends a command."""
    match error:
        case NothingChosen():
            return Exit.NOTHING_CHOSEN
        case CannotStore() | TransferFailed():
            return Exit.INCOMPLETE
        case _:
            return Exit.NOT_UNDERSTOOD


def gravest(codes: Collection[Exit]) -> Exit:
    """Return the most serious of several exit codes: an interruption first, then failed checks."""
    order = (Exit.INTERRUPTED, Exit.CHECK_FAILED, Exit.INCOMPLETE)
    return next((code for code in order if code in codes), Exit.GOOD)
