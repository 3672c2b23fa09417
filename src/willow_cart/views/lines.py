"""Messages of a running haul, line by line; `views.bars` draws bars."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from willow_cart.addresses import host_of
from willow_cart.errors import ServerBusy, TransientError, WillowCartError
from willow_cart.filing import Filed, Plan
from willow_cart.hauling.progress import ProgressTracker
from willow_cart.jobs.job_observer import Throttle
from willow_cart.ledger.entries import Result
from willow_cart.model import State
from willow_cart.redaction import without_secrets
from willow_cart.transfer.observer import Handled, Unpacked
from willow_cart.units import count_of, format_duration, format_size

_SECONDS_BETWEEN_LINES = 10.0

# Members named in messages about an archive; the others are counted.
_MAX_NAMED_MEMBERS = 8

# In the background lines pile up over a night.
_SECONDS_BETWEEN_LINES_IN_BACKGROUND = 60.0

Say = Callable[[str], object]
"""Writes one line for good, or keeps it; several threads call it."""


class View(ProgressTracker):
    """Prints messages about a haul; subclasses also draw.

    Args:
        say: writes a line.
        clock: monotonic, in seconds.

    Attributes:
        tells_failures: whether files that do not come are reported one by one.
    """

    def __init__(self, say: Say, clock: Callable[[], float] = time.monotonic) -> None:
        super().__init__(clock)
        self.say = say
        self.tells_failures = True
        self._waits = Throttle(clock)

    def resuming(self, begun: str) -> None:
        """Report that an earlier haul was interrupted."""
        when = f"{datetime.fromisoformat(begun):%Y-%m-%d %H:%M} UTC"
        self.say(f"the haul of {when} was interrupted; resuming")

    def planned(self, plan: Plan) -> None:
        """Report what the user should know before anything is fetched."""
        super().planned(plan)
        if twice := plan.offers.twice:
            self.say(f"{count_of(twice, 'address', 'addresses')} duplicated, fetched once")
        if example := plan.changed.example:
            verb = "is" if plan.changed.files == 1 else "are"
            self.say(
                f"{count_of(plan.changed.files, 'name')} {verb} made safe, such as"
                f" {without_secrets(example.offer.address)}, filed as {example.path}"
            )
        for clash in plan.clashes:
            several = len(clash.given) > 1
            self.say(
                f"{clash.wanted}: requested by {count_of(len(clash.given), 'address', 'addresses')}"
                f"{'' if several else ' and already in use'}; filed as "
                + " and ".join(filed.path for filed in clash.given)
            )
        if example := plan.staying.example:
            self.say(
                f"{count_of(plan.staying.files, 'file')} from an earlier haul in another layout"
                f" stay in place, such as {example.path}"
            )

    def started(self, lane: int, filed: Filed, length: int | None, start: int) -> None:
        """Report that a partial file is resumed."""
        if start and filed.path not in self.postponed_paths:
            self.say(f"{filed.path}: resuming at {format_size(start)} from an earlier haul")
        super().started(lane, filed, length, start)

    def postponed(self, lane: int, filed: Filed, error: TransientError, pause: float) -> None:
        """Report why and how long a file waits."""
        have = self.carried(lane, filed.path)
        super().postponed(lane, filed, error, pause)
        if have:
            on = f"resuming at {format_size(have)} in {format_duration(pause)}"
            self.say(f"{filed.path}: {error.reason}; {on}")
        else:
            self._say_of_host(host_of(filed.offer.address), filed, error, pause)

    def _say_of_host(self, host: str, filed: Filed, error: TransientError, pause: float) -> None:
        """Report why files wait that have not started, once per reason."""
        if not self._waits.is_due((host, error.reason)):
            return
        if isinstance(error, ServerBusy):
            self.say(
                f"{host} is busy ({error.reason}); slowing down, retrying in"
                f" {format_duration(pause)}"
            )
        else:
            self.say(f"{filed.path}: {error.reason}; retrying in {format_duration(pause)}")

    def switched_mirror(self, lane: int, filed: Filed, why: str, mirror: str) -> None:
        """Report which mirror is tried, and why."""
        super().switched_mirror(lane, filed, why, mirror)
        self.say(f"{filed.path}: {why}; trying mirror {mirror}")

    def ledger_converted(self, files: int) -> None:
        """Report what an early version did not record."""
        self.say(
            f"the ledger is of an early version, which recorded only part of the addresses of"
            f" {count_of(files, 'file')}; a file that is offered again is fetched once more and"
            " compared"
        )

    def process_lost(self) -> None:
        """Report that a further process was killed."""
        self.say(
            "a process for small files was ended by the system; its files are fetched by others"
        )

    def cluster_used(self, scheduler: str, dashboard: str) -> None:
        """Report where the load of the workers can be seen."""
        if dashboard:
            self.say(f"on the cluster {scheduler}; see the workers at {dashboard}")

    def worker_unusable(self, worker: str, why: str) -> None:
        """Report that a worker of the cluster gets no files."""
        self.say(f"worker {worker} {why}")

    def worker_lost(self, worker: str, why: str) -> None:
        """Report that a worker of the cluster carries no more files."""
        super().worker_lost(worker, why)
        self.say(f"worker {worker}: {why}; its files go on elsewhere")

    def host_suspended(self, host: str, error: WillowCartError, pause: float) -> None:
        """Report that a host was suspended."""
        super().host_suspended(host, error, pause)
        self.say(
            f"{host} keeps failing ({error.reason}); retrying after the other hosts, in"
            f" {format_duration(pause)} at the earliest"
        )

    def host_given_up(self, host: str, why: str, files: int) -> None:
        """Report how many files a failed host leaves, in one line."""
        self.say(f"giving up on {host}, {count_of(files, 'file')} left: {why}")

    def moved_aside(self, path: str, kept: Path) -> None:
        """Report where an existing file was moved."""
        self.say(f"{path}: an existing file was moved to {kept}")

    def handled(self, handled: Handled) -> None:
        """Report a file for which the user's command failed."""
        if handled.why:
            self.say(f"{handled.path}: {handled.why}")

    def unpacked(self, unpacked: Unpacked) -> None:
        """Report what was not unpacked from an archive."""
        if unpacked.failed:
            self.say(f"{unpacked.path}: not unpacked: {unpacked.failed}")
        for left_out in unpacked.left_out[:_MAX_NAMED_MEMBERS]:
            self.say(f"{unpacked.path}: left out {left_out.name}: {left_out.why}")
        if (more := len(unpacked.left_out) - _MAX_NAMED_MEMBERS) > 0:
            self.say(f"{unpacked.path}: left out {count_of(more, 'member')} more")
        if before := unpacked.left_out_before:
            self.say(f"{unpacked.path}: {count_of(before, 'member')} left out when it was unpacked")
        if gone := unpacked.gone:
            self.say(
                f"{unpacked.path}: {count_of(len(gone), 'file')} of an earlier version no longer in"
                f" it, such as {gone[0]}, moved to .willow/aside"
            )

    def settled(self, filed: Filed, result: Result) -> None:
        """Count a file, and report problems with it."""
        super().settled(filed, result)
        if result.is_unsound:
            self.say(f"{result.path} arrived, but {result.reason}")
        if result.note:
            self.say(f"{result.path}: {result.note}")
        # What was never requested is reported by its host.
        failed = result.state in (State.FAILED, State.REFUSED) and result.attempts
        if failed and self.tells_failures:
            self.say(f"{result.state.label}: {result.address}: {result.reason}")


class PlainView(View):
    """Prints a line now and then, for logs and pipes.

    Args:
        say: writes a line.
        begun: called once it is known what is to be done, for a haul in the background.
        clock: monotonic, in seconds.
    """

    def __init__(
        self,
        say: Say,
        begun: Callable[[], None] | None = None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        super().__init__(say, clock)
        self._begun = begun
        self._lock = threading.Lock()
        self._between = _SECONDS_BETWEEN_LINES_IN_BACKGROUND if begun else _SECONDS_BETWEEN_LINES
        self._next_line = clock() + self._between

    def planned(self, plan: Plan) -> None:
        """Report the plan, and release the terminal if it waits for that."""
        super().planned(plan)
        if self._begun is not None:
            self._begun()

    def received(self, lane: int, count: int) -> None:
        """Count bytes, and print a line when one is due."""
        super().received(lane, count)
        now = self._clock()
        with self._lock:
            if now < self._next_line:
                return
            self._next_line = now + self._between
        far = self.progress()
        left = f", {format_duration(far.left)} left" if far.left else ""
        self.say(
            f"{far.files_done:,} of {count_of(far.files, 'file')}, {format_size(far.have)},"
            f" {format_size(int(far.speed))}/s{left}"
        )
