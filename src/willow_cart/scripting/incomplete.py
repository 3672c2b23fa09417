"""Make the error for a result that is not complete."""

from __future__ import annotations

from collections.abc import Sequence

from willow_cart.errors import Incomplete
from willow_cart.exits import Exit

RETRY = "call it again to retry, or use must_arrive=False to get what arrived"
"""The advice where another call fetches what is missing."""


def incomplete(
    done: object, what: str, why: str, troubles: Sequence[str], *, advice: str, exit_code: Exit
) -> Incomplete:
    """Return the error.

    Args:
        done: the result, which the error holds.
        what: the folder, file or archives it is about.
        why: what is wrong, without an example.
        troubles: what is wrong with each file; the first is the example.
        advice: what to do.
        exit_code: of the command.
    """
    example = f", such as {troubles[0]}" if troubles else ""
    return Incomplete(what, f"{why}{example}", advice, result=done, exit_code=exit_code)
