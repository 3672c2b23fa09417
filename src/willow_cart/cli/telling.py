"""Lines on standard error: what could not be taken, and what to do about it.

Standard output is for results alone, so that it can be piped on.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from typing import TYPE_CHECKING

from willow_cart.errors import (
    CannotStore,
    NothingChosen,
    TransferFailed,
    TryAgain,
    WillowCartError,
)
from willow_cart.exits import Exit
from willow_cart.model import Sizes, State
from willow_cart.units import count_of, format_duration, format_size, printable

if TYPE_CHECKING:
    from pathlib import Path

    from willow_cart.choosing import Choice
    from willow_cart.hauling import Account
    from willow_cart.offline import Taken


# What is waited for again and again is told no more often than this.
_BETWEEN_WAITS_SECONDS = 15.0


# A context variable, so that calls in several threads of one process do not hear each other. The
# threads that a call starts begin without it: they tell through a `teller` that was made before.
_hearer: ContextVar[list[str] | None] = ContextVar("hearer", default=None)


@contextmanager
def hearing() -> Iterator[list[str]]:
    """Gather what would be told, instead of writing it: a script asks for it afterwards."""
    lines: list[str] = []
    token = _hearer.set(lines)
    try:
        yield lines
    finally:
        _hearer.reset(token)


def is_heard() -> bool:
    """Whether a script listens, and nobody reads."""
    return _hearer.get() is not None


def tell(line: object) -> None:
    """Write one line to standard error, signed with the program's name."""
    teller()(line)


def teller() -> Callable[[object], None]:
    """Return what tells a line where this thread would, for threads that it starts."""
    lines = _hearer.get()
    return _write if lines is None else lambda line: lines.append(printable(str(line)))


def _write(line: object) -> None:
    # Nobody may be listening any more; that is no reason to stop working.
    with suppress(OSError):
        print(f"willow-cart: {printable(str(line))}", file=sys.stderr)


class Throttle:
    """Decides whether something is to be told again, by what it is about.

    Args:
        clock: monotonic, in seconds.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._told: dict[Hashable, float] = {}

    def is_due(self, about: Hashable) -> bool:
        """Return whether it was not told just now; if so, it counts as told."""
        now = self._clock()
        if now - self._told.get(about, -_BETWEEN_WAITS_SECONDS) < _BETWEEN_WAITS_SECONDS:
            return False
        self._told[about] = now
        return True


class WaitTeller:
    """Tells what is being waited for; one line for a host and a while, not one for each wait."""

    def __init__(self) -> None:
        self._throttle = Throttle()
        self._tell = teller()

    def __call__(self, error: TryAgain, pause: float) -> None:
        """Say why a request waits, and for how long, unless that was said just now."""
        host = error.thing.partition("://")[2].partition("/")[0] or error.thing
        if self._throttle.is_due(host):
            self._tell(f"{error.thing}: {error.reason}; trying again in {format_duration(pause)}")


def tell_waiting(answered: int, waiting: Sequence[str]) -> None:
    """Say which places are asked what they are, and have not answered yet."""
    more = f" and {len(waiting) - 1:,} more" if len(waiting) > 1 else ""
    verb = "has" if answered == 1 else "have"
    tell(
        f"{count_of(answered, 'address', 'addresses')} {verb} answered; waiting for"
        f" {waiting[0]}{more}"
    )


def code_for(error: WillowCartError) -> Exit:
    """What the shell is told of an error that ends a command."""
    match error:
        case NothingChosen():
            return Exit.NOTHING_CHOSEN
        case CannotStore() | TransferFailed():
            return Exit.INCOMPLETE
        case _:
            return Exit.NOT_UNDERSTOOD


def counted(files: int, counts: Mapping[State, int]) -> str:
    """How many files there are, and how many in each state: none is left out, so none is missed."""
    states = ", ".join(f"{counts.get(state, 0):,} {state}" for state in State)
    return f"{count_of(files, 'file')}: {states}"


def summed_up(done: Account | Taken, into: Path) -> str:
    """The line that says what came of a haul, or of several that are one."""
    return (
        f"{counted(done.planned, done.counts)}; {format_size(done.received)} received in"
        f" {format_duration(done.seconds)} into {into}"
    )


def in_words(sizes: Sizes) -> str:
    """How many files there are and how large they are; unknown sizes are counted, never as zero."""
    words = count_of(sizes.files, "file")
    if sizes.files > sizes.unknown:
        words += f", {'about ' if sizes.rough else ''}{format_size(sizes.bytes)}"
    if sizes.unknown:
        words += f", {count_of(sizes.unknown, 'size')} unknown"
    return words


def tell_unknown(choice: Choice) -> None:
    """Say of how many offers a rule could not tell, and what decides."""
    for count, fact, option in (
        (choice.undated, "date", "--undated"),
        (choice.unsized, "size that is known well enough", "--unsized"),
    ):
        if count:
            verb = "has" if count == 1 else "have"
            tell(
                f"{count_of(count, 'offer')} that dates or sizes are to choose {verb} no {fact}"
                f" ({option} keep|drop decides; --ask-sizes asks the servers)"
            )


def tell_each(lines: Iterable[object]) -> None:
    """Write lines to standard error, one for each."""
    for line in lines:
        tell(line)
