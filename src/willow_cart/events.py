"""What happens in jobs and hauls, as data: observers print it, log it, and count by it.

Besides these, observers receive every `Issue` of a line or a source, and every error that does not
end a job.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from willow_cart.errors import InternalError, TransientError, WillowCartError
from willow_cart.model import Issue, State
from willow_cart.structs import Value, field

if TYPE_CHECKING:
    from willow_cart.archives.extract import LeftOut
    from willow_cart.cart.forms import Form
    from willow_cart.cart.loading import Loaded
    from willow_cart.choosing import Choice
    from willow_cart.destination import Unportable
    from willow_cart.filing import Filed, Plan
    from willow_cart.ledger.entries import Result
    from willow_cart.sources.listing import Discovery


class Event(Value):
    """An event; without a message of its own, it is not printed."""


Notice = Event | Issue | WillowCartError
"""What observers receive."""


class HaulEvent(Event):
    """An event of a haul that its log keeps: one line with the event's fields.

    Attributes:
        logged_as: its name there; by default the name of the class, in lower case.
    """

    logged_as: ClassVar[str] = ""


class Resuming(HaulEvent):
    """An earlier haul was interrupted; this one resumes it.

    Attributes:
        begun: when that began, in UTC, ISO 8601.
    """

    begun: str


class LedgerConverted(Event):
    """The ledger is of an early version that could not distinguish the addresses of some files."""

    files: int


class Planned(HaulEvent):
    """The plan is complete; nothing was fetched yet."""

    plan: Plan


class Requesting(Event):
    """A lane requests a file or a strand from a host."""

    lane: int
    host: str


class Started(HaulEvent):
    """A lane receives a file of `length` bytes, of which `start` exist already."""

    lane: int
    filed: Filed
    length: int | None
    start: int


class StrandStarted(HaulEvent):
    """A lane fetches the bytes from `start` to `end` of another lane's file."""

    lane: int
    filed: Filed
    start: int
    end: int


class Received(Event):
    """A lane has received and written another `count` bytes."""

    lane: int
    count: int


class Postponed(HaulEvent):
    """A lane has postponed a file for `pause` seconds."""

    lane: int
    filed: Filed
    error: TransientError
    pause: float


class SwitchedMirror(HaulEvent):
    """A lane has switched a file to a mirror: it did not come from the address that was asked."""

    lane: int
    filed: Filed
    why: str
    mirror: str


class LanesChanged(HaulEvent):
    """A host has another number of lanes, as more or fewer have proved faster."""

    host: str
    lanes: int


class ClusterUsed(HaulEvent):
    """A haul runs on a cluster, which has a dashboard at an address, or none."""

    scheduler: str
    dashboard: str


class WorkerJoined(HaulEvent):
    """A worker of a cluster carries files from now on, up to `lanes` at a time."""

    worker: str
    lanes: int


class WorkerUnusable(HaulEvent):
    """A worker of a cluster is given no files."""

    worker: str
    why: str


class WorkerLost(HaulEvent):
    """A worker of a cluster carries no more files; those it carried go on elsewhere."""

    worker: str
    why: str


class HandedOver(HaulEvent):
    """A lane waits for a worker of a cluster, which carries its files."""

    lane: int
    worker: str


class CarriedBy(HaulEvent):
    """A worker of a cluster has made an attempt at a file."""

    filed: Filed
    worker: str


class HostSuspended(HaulEvent):
    """A host was suspended after repeated failures; it is tried after the others, and a pause."""

    host: str
    error: WillowCartError
    pause: float


class HostGivenUp(HaulEvent):
    """A host was given up; this many of its files are not requested."""

    host: str
    why: str
    files: int


class BugMet(HaulEvent):
    """A bug of this program occurred while a file was processed."""

    logged_as: ClassVar[str] = "internal_error"

    path: str
    error: InternalError


class MovedAside(HaulEvent):
    """A file that was not from a haul was moved aside."""

    path: str
    kept: Path


class Freed(Event):
    """A lane has finished its file, for now or for good."""

    lane: int


class Handled(HaulEvent):
    """The result of running the user's command for a file.

    Attributes:
        path: the file's.
        why: it failed; empty if it did not.
        output: the end of its output.
        seconds: how long it took.
    """

    path: str
    why: str
    output: str
    seconds: float


class Unpacked(HaulEvent):
    """The result of unpacking an archive.

    Attributes:
        path: the archive's.
        folder: where its members are, with a slash at the end.
        files: how many were filed.
        not_chosen: how many were not requested.
        left_out: those that were not taken, with the reasons.
        left_out_before: how many were not, where all that is to be said was said in an earlier run.
        gone: paths of an earlier version's files that this one lacks; they are moved aside.
        failed: why it could not be unpacked at all; empty if it was, or had been before.
    """

    path: str
    folder: str = ""
    files: int = 0
    bytes: int = 0
    not_chosen: int = 0
    left_out: tuple[LeftOut, ...] = ()
    left_out_before: int = 0
    gone: tuple[str, ...] = ()
    failed: str = ""

    @property
    def is_new(self) -> bool:
        """Whether anything was unpacked."""
        return bool(self.folder)


class Settled(HaulEvent):
    """The result of a file is known and recorded."""

    filed: Filed
    result: Result

    @property
    def is_failure(self) -> bool:
        """Whether the file was requested and did not arrive; hosts report what never was."""
        return self.result.state in (State.FAILED, State.REFUSED) and self.result.attempts > 0


class Ended(HaulEvent):
    """A haul has ended.

    Attributes:
        run: its number in the ledger.
        counts: its files by state.
        received: bytes that came.
    """

    run: int
    files: int
    counts: Mapping[str, int]
    received: int
    seconds: float
    exit_code: int


class Waits(Event):
    """A request is retried after a pause.

    Attributes:
        error: why.
        pause: seconds.
    """

    error: TransientError
    pause: float


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


class AwaitsAnswers(Event):
    """Servers are being probed.

    Attributes:
        answered: how many addresses have answered.
        waiting: those that have not.
    """

    answered: int
    waiting: Sequence[str]


class Looked(Event):
    """All sources were listed.

    Attributes:
        found: the listing, with what was not entered.
        choice: the counts of choosing.
        depth: the levels that were requested; None for all.
        pages: the pages of a series that were requested.
        unlisted: how many files pages show that were not listed, by part, if that matters.
    """

    found: Discovery
    choice: Choice
    depth: int | None
    pages: int
    unlisted: Mapping[str, int] = field(default_factory=dict)


class MayBeExpanded(Event):
    """A pattern is the name of a local file, as if a shell had put it in place of a wildcard.

    Attributes:
        option: that the pattern was given to.
        pattern: the name.
    """

    option: str
    pattern: str


class Unsure(Event):
    """A rule lacked the date or size of some offers.

    Attributes:
        choice: the counts of choosing.
    """

    choice: Choice


class PassedOver(Event):
    """A configuration file cannot be used and is ignored.

    Attributes:
        path: the file.
    """

    path: Path
    reason: str


class OpenCluster(Event):
    """The line to a scheduler is not protected; who can reach it can run programs as the user.

    Attributes:
        scheduler: its address.
        is_here: whether it is on this machine, which has other users.
    """

    scheduler: str
    is_here: bool


class ErrandWritten(Event):
    """The request was written as an errand.

    Attributes:
        path: the errand.
    """

    path: Path


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

    @property
    def summary(self) -> str:
        """Return the changes of the cart."""
        return f"{self.path}: {self.loaded}"


class CartKept(Event):
    """A haul has written a cart of the chosen offers.

    Attributes:
        filled: the cart.
    """

    filled: CartFilled


class ListFound(Event):
    """A checksum list was found next to the files.

    Attributes:
        place: its address.
        checksums: how many it has.
    """

    place: str
    checksums: int


class NotPromised(Event):
    """Some files have no checksum in the lists.

    Attributes:
        bare: how many.
        files: of how many.
    """

    bare: int
    files: int


class ChangedHere(Event):
    """Files to be read have changed since they were hauled.

    Attributes:
        example: the path of one.
    """

    files: int
    example: str


class NotAsked(Event):
    """A file came from a local file, which is not read again without --local-files.

    Attributes:
        path: where it was filed.
    """

    path: str


class NotPortable(Event):
    """Paths do not work on every system.

    Attributes:
        found: these; empty for none.
    """

    found: Sequence[Unportable]


class KeptAside(Event):
    """A file was moved aside because it is hauled again.

    Attributes:
        kept: where it is now.
    """

    path: str
    kept: Path
