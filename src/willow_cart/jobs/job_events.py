"""The events of jobs, as data; `willow_cart.views` makes the messages.

Besides these, jobs tell of every `Issue` of a line or a place, and of every error that does not
end them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from willow_cart.cart.forms import Form
    from willow_cart.cart.loading import Loaded
    from willow_cart.choosing import Choice
    from willow_cart.destination import Unportable
    from willow_cart.errors import TransientError
    from willow_cart.sources.discovery import Discovery


class Event:
    """An event that a user should know about."""

    __slots__ = ()


@dataclass(frozen=True, slots=True)
class Waits(Event):
    """A request is retried after a pause.

    Attributes:
        error: why.
        pause: seconds.
    """

    error: TransientError
    pause: float


@dataclass(frozen=True, slots=True)
class CodeWanted(Event):
    """A sign-in waits for a code that the user has to enter on a page.

    Attributes:
        address: of the page.
        code: what to enter.
        why: why another code is needed in this run; empty for the first.
    """

    address: str
    code: str
    why: str = ""


@dataclass(frozen=True, slots=True)
class AwaitsAnswers(Event):
    """Servers are being probed.

    Attributes:
        answered: how many addresses have answered.
        waiting: those that have not.
    """

    answered: int
    waiting: Sequence[str]


@dataclass(frozen=True, slots=True)
class Looked(Event):
    """All sources were listed.

    Attributes:
        found: what was seen, and not entered.
        choice: what was counted in choosing.
        depth: the levels that were requested; None for all.
        pages: the pages of a series that were requested.
        unlisted: how many files pages show that were not listed, by part, if that matters.
    """

    found: Discovery
    choice: Choice
    depth: int | None
    pages: int
    unlisted: Mapping[str, int] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class MayBeExpanded(Event):
    """A pattern is the name of a local file, as if a shell had put it in place of a wildcard.

    Attributes:
        option: that the pattern was given to.
        pattern: the name.
    """

    option: str
    pattern: str


@dataclass(frozen=True, slots=True)
class Unsure(Event):
    """A rule lacked the date or size of some offers.

    Attributes:
        choice: what was counted in choosing.
    """

    choice: Choice


@dataclass(frozen=True, slots=True)
class PassedOver(Event):
    """A configuration file cannot be used and is ignored.

    Attributes:
        path: the file.
    """

    path: Path
    reason: str


@dataclass(frozen=True, slots=True)
class OpenCluster(Event):
    """The line to a scheduler is not protected; who can reach it can run programs as the user.

    Attributes:
        scheduler: its address.
        is_here: whether it is on this machine, which has other users.
    """

    scheduler: str
    is_here: bool


@dataclass(frozen=True, slots=True)
class ErrandWritten(Event):
    """The request was written as an errand.

    Attributes:
        path: the errand.
    """

    path: Path


@dataclass(frozen=True, slots=True)
class CartFilled(Event):
    """Offers were written into a cart.

    Attributes:
        loaded: what changed in it.
        form: in which it is written; None for a cart as such.
        bare: how many checksums the format cannot hold.
    """

    path: Path
    loaded: Loaded
    form: Form | None
    bare: int


@dataclass(frozen=True, slots=True)
class CartKept(Event):
    """A haul has written a cart of the chosen offers.

    Attributes:
        filled: the cart.
    """

    filled: CartFilled


@dataclass(frozen=True, slots=True)
class ListFound(Event):
    """A checksum list was found next to the files.

    Attributes:
        place: its address.
        checksums: how many it has.
    """

    place: str
    checksums: int


@dataclass(frozen=True, slots=True)
class NotPromised(Event):
    """Some files have no checksum in the lists.

    Attributes:
        bare: how many.
        files: of how many.
    """

    bare: int
    files: int


@dataclass(frozen=True, slots=True)
class ChangedHere(Event):
    """Files to be read have changed since they were hauled.

    Attributes:
        example: the path of one.
    """

    files: int
    example: str


@dataclass(frozen=True, slots=True)
class NotAsked(Event):
    """A file came from a local file, which is not read again without --local-files.

    Attributes:
        path: where it was filed.
    """

    path: str


@dataclass(frozen=True, slots=True)
class NotPortable(Event):
    """Paths do not work on every system.

    Attributes:
        found: these; empty for none.
    """

    found: Sequence[Unportable]


@dataclass(frozen=True, slots=True)
class KeptAside(Event):
    """A file was moved aside because it is hauled again.

    Attributes:
        kept: where it is now.
    """

    path: str
    kept: Path
