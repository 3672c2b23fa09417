"""What a haul tells while it is running."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from willow_cart.archives import LeftOut
from willow_cart.errors import InternalError, TransientError, WillowCartError
from willow_cart.filing import Filed, Plan
from willow_cart.records import Result


@dataclass(frozen=True, slots=True)
class Unpacked:
    """What came of unpacking an archive.

    Attributes:
        path: the archive's.
        folder: where its members are, with a slash at the end.
        files: how many were filed.
        bytes: of them all.
        not_chosen: how many were not asked for.
        left_out: those that were not taken, with the reasons.
        left_out_before: how many were not, where all that is to be said was said in an earlier run.
        gone: paths of what an earlier version had and this one has not; they are put aside.
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
        """Whether anything was done."""
        return bool(self.folder)


@dataclass(frozen=True, slots=True)
class Handled:
    """What came of running the person's command for a file.

    Attributes:
        path: the file's.
        why: it failed; empty if it did not.
        output: what it said, the end of it.
        seconds: how long it took.
    """

    path: str
    why: str
    output: str
    seconds: float


class Observer:
    """Hear what happens in a haul; this one keeps it to itself.

    Subclasses override what they care about. The methods are called from several threads, so
    they must bear being called at the same time, and return quickly.
    """

    def goes_on(self, begun: str) -> None:
        """Hear that an earlier haul was interrupted, perhaps by a crash; this one resumes it.

        Args:
            begun: when that began, in UTC, ISO 8601.
        """

    def planned(self, plan: Plan) -> None:
        """Everything has its place; nothing has been fetched."""

    def asks(self, lane: int, host: str) -> None:
        """Hear that a lane asks a host for a file, or for a strand of one."""

    def started(self, lane: int, filed: Filed, length: int | None, start: int) -> None:
        """Hear that a lane receives a file of `length` bytes, of which `start` are here already."""

    def joined(self, lane: int, filed: Filed, start: int, end: int) -> None:
        """Hear that a lane helps another one.

        It receives the bytes of its file from `start` to `end`.
        """

    def received(self, lane: int, count: int) -> None:
        """Hear that a lane has received and written another `count` bytes."""

    def postponed(self, lane: int, filed: Filed, error: TransientError, pause: float) -> None:
        """Hear that a lane has put a file off for `pause` seconds."""

    def turned(self, lane: int, filed: Filed, why: str, mirror: str) -> None:
        """Hear that a lane has left a file to a mirror.

        It did not come from the address that was asked.
        """

    def host_set_aside(self, host: str, error: WillowCartError, pause: float) -> None:
        """Hear that a host has failed repeatedly.

        It is tried again after the others, and a pause.
        """

    def host_given_up(self, host: str, error: WillowCartError, files: int) -> None:
        """Hear that a host fails for good; so many of its files are not even asked for."""

    def broke(self, path: str, error: InternalError) -> None:
        """Hear that a fault of this program was met while a file was dealt with."""

    def set_aside(self, path: str, kept: Path) -> None:
        """Hear that what lay at a path was not what a haul had put there; it is kept elsewhere."""

    def freed(self, lane: int) -> None:
        """Hear that a lane is done with its file, for now or for good."""

    def handled(self, handled: Handled) -> None:
        """Hear that the person's own command was run for a file that arrived."""

    def unpacked(self, unpacked: Unpacked) -> None:
        """Hear that an archive was unpacked, or could not be.

        Members that were left out are named.
        """

    def settled(self, filed: Filed, result: Result) -> None:
        """Hear that a file's outcome is known and entered in the ledger."""


def all_of(*observers: Observer) -> Observer:
    """Hear that an observer by which several others hear what happens, one after the other."""
    together = Observer()
    for event in (name for name in vars(Observer) if not name.startswith("_")):
        # An observer that does not override an event costs nothing.
        heard = [
            getattr(observer, event)
            for observer in observers
            if getattr(getattr(observer, event), "__func__", None) is not getattr(Observer, event)
        ]
        if heard:
            setattr(together, event, heard[0] if len(heard) == 1 else _each_of(heard))
    return together


def _each_of(heard: Sequence[Callable[..., None]]) -> Callable[..., None]:
    def tell(*what: object) -> None:
        for each in heard:
            each(*what)

    return tell
