"""The events of a running haul."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.errors import InternalError, TransientError, WillowCartError
from willow_cart.filing import Filed, Plan
from willow_cart.ledger.entries import Result

if TYPE_CHECKING:
    from willow_cart.archives.extract import LeftOut


@dataclass(frozen=True, slots=True)
class Unpacked:
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


@dataclass(frozen=True, slots=True)
class Handled:
    """The result of running the user's command for a file.

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
    """An observer of a haul; this one ignores all events.

    Subclasses override what they care about. The methods are called from several threads, so
    they must bear being called at the same time, and return quickly.
    """

    def resuming(self, begun: str) -> None:
        """An earlier haul was interrupted; this one resumes it.

        Args:
            begun: when that began, in UTC, ISO 8601.
        """

    def ledger_converted(self, files: int) -> None:
        """The ledger is of an early version that could not tell addresses of some files apart."""

    def planned(self, plan: Plan) -> None:
        """The plan is complete; nothing was fetched yet."""

    def asks(self, lane: int, host: str) -> None:
        """A lane requests a file or a strand from a host."""

    def started(self, lane: int, filed: Filed, length: int | None, start: int) -> None:
        """A lane receives a file of `length` bytes, of which `start` exist already."""

    def joined(self, lane: int, filed: Filed, start: int, end: int) -> None:
        """A lane fetches a strand of another lane's file.

        It receives the bytes of its file from `start` to `end`.
        """

    def received(self, lane: int, count: int) -> None:
        """A lane has received and written another `count` bytes."""

    def postponed(self, lane: int, filed: Filed, error: TransientError, pause: float) -> None:
        """A lane has postponed a file for `pause` seconds."""

    def switched_mirror(self, lane: int, filed: Filed, why: str, mirror: str) -> None:
        """A lane has switched a file to a mirror.

        It did not come from the address that was asked.
        """

    def lanes_changed(self, host: str, lanes: int) -> None:
        """A host has another number of lanes, as more or fewer have proved faster."""

    def processes_started(self, count: int) -> None:
        """Small files are carried by this many further processes from now on."""

    def process_lost(self) -> None:
        """A further process was killed; what it carried is carried by others."""

    def cluster_used(self, scheduler: str, dashboard: str) -> None:
        """A haul runs on a cluster, which has a dashboard at an address, or none."""

    def worker_joined(self, worker: str, lanes: int) -> None:
        """A worker of a cluster carries files from now on, up to `lanes` at a time."""

    def worker_unusable(self, worker: str, why: str) -> None:
        """A worker of a cluster is given no files."""

    def worker_lost(self, worker: str, why: str) -> None:
        """A worker of a cluster carries no more files; those it carried go on elsewhere."""

    def handed_over(self, lane: int, worker: str) -> None:
        """A lane waits for a worker of a cluster, which carries its files."""

    def carried_by(self, filed: Filed, worker: str) -> None:
        """A worker of a cluster has made an attempt at a file."""

    def host_suspended(self, host: str, error: WillowCartError, pause: float) -> None:
        """A host was suspended after repeated failures.

        It is tried again after the others, and a pause.
        """

    def host_given_up(self, host: str, why: str, files: int) -> None:
        """A host was given up; this many of its files are not requested."""

    def internal_error(self, path: str, error: InternalError) -> None:
        """A bug of this program occurred while a file was processed."""

    def moved_aside(self, path: str, kept: Path) -> None:
        """A file that was not from a haul was moved aside."""

    def freed(self, lane: int) -> None:
        """A lane has finished its file, for now or for good."""

    def handled(self, handled: Handled) -> None:
        """The user's command was run for a file that arrived."""

    def unpacked(self, unpacked: Unpacked) -> None:
        """An archive was unpacked, or could not be.

        Members that were left out are named.
        """

    def settled(self, filed: Filed, result: Result) -> None:
        """The result of a file is known and recorded."""


def all_of(*observers: Observer) -> Observer:
    """Return an observer that passes events to several others."""
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
