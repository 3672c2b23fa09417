"""Run transfers of small files in other processes, to use all processors.

Python runs one thread at a time. Where files are so small that not the line but the interpreter
decides how fast they come, a process for each processor fetches more than any number of lanes.
"""

from __future__ import annotations

import json
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.addresses import WEB, scheme_of
from willow_cart.destination import Destination
from willow_cart.events import Received, Started
from willow_cart.executors.worker import Carried, Setup
from willow_cart.filing import Filed
from willow_cart.observer import Observer
from willow_cart.platform import processes
from willow_cart.protocols import Access
from willow_cart.transfer.executor import MAX_SMALL_FILE_BYTES, BatchRule, Executor, Outcome
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.transfers import Transfer

if TYPE_CHECKING:
    import subprocess
    from multiprocessing.connection import Connection

# Starting a process costs a quarter of a second of a processor; for fewer files it does not pay.
_FILES_WORTH_A_PROCESS = 1000

# A batch keeps the other process busy for some milliseconds, and is soon over when hosts are busy.
_FILES_PER_BATCH = 32

# One is carried there while the outcome of the other is seen to here.
_LANES_PER_PROCESS = 2

# More of them than this need more of this process than it has.
_MAX_PROCESSES = 8

_STOP_GRACE_SECONDS = 5.0

# `-P`: no folder of the caller comes before the standard library. The path is handed over,
# so that the same modules are found, and no script of the user's is run a second time.
_PROGRAM = """\
import json, sys
sys.path[:] = json.loads(sys.argv[1])
from willow_cart.executors.worker import serve
serve(sys.argv[2])
"""


class ProcessExecutor(Executor):
    """Runs transfers in a process of its own, which is spawned, not forked.

    Args:
        make_access: makes what talks to places, there.
        holds: whether an answer is kept in this process that is the file's.
    """

    batches = BatchRule(_FILES_PER_BATCH)
    lanes = _LANES_PER_PROCESS

    def __init__(
        self,
        make_access: Callable[[], Access],
        destination: Destination,
        policy: HaulPolicy,
        observer: Observer,
        holds: Callable[[str], bool] = lambda _: False,
    ) -> None:
        self._destination = destination
        self._observer = observer
        self._holds = holds
        self._large = 0
        self._is_open = True
        self._is_lost = False
        self._sending = threading.Lock()
        self._turn = threading.Condition()
        self._sent = self._answered = 0
        self._process, self._line = _start()
        self._send_in_turn(Setup.of(make_access, destination.root, policy))

    @property
    def is_open(self) -> bool:
        """Whether the process is alive, as far as known."""
        return self._is_open

    def suits(self, transfer: Transfer) -> bool:
        """Whether a file is small, new, and from the web."""
        size = transfer.offer.size
        return (
            self._is_open
            and not transfer.attempts
            and (size <= MAX_SMALL_FILE_BYTES if size is not None else not self._large)
            and scheme_of(transfer.address) in WEB
            and self._destination.status(transfer.filed.path) is None
            and not self._holds(transfer.address)
        )

    def carry(self, transfers: Sequence[Transfer], lane: int) -> Iterator[tuple[Transfer, Outcome]]:
        """Make one attempt at each transfer; see `Executor.carry`."""
        if not transfers:
            return
        by_number = {transfer.number: transfer for transfer in transfers}
        carried = self._exchange([(transfer.number, transfer.filed) for transfer in transfers])
        self._large += sum(each.outcome is None for each in carried)
        for each in carried:
            if each.outcome is not None:
                transfer = by_number[each.number]
                self._take_over(transfer, each, lane)
                yield transfer, each.outcome

    def _take_over(self, transfer: Transfer, carried: Carried, lane: int) -> None:
        """Update a transfer with the outcome in the other process."""
        transfer.take_over(carried.received, carried.consecutive_failures, carried.seconds)
        self._observer.note(Started(lane, transfer.filed, carried.received, 0))
        self._observer.note(Received(lane, carried.received))

    def _exchange(self, batch: list[tuple[int, Filed]]) -> list[Carried]:
        """Send a batch, and wait for what became of it; batches are answered in their order."""
        with self._sending:
            turn, self._sent = self._sent, self._sent + 1
            self._send_in_turn(batch)
        with self._turn:
            self._turn.wait_for(lambda: self._answered == turn)
        carried: list[Carried] = []
        if self._is_open:
            try:
                carried = self._line.recv()
            except (EOFError, OSError):
                self._lose()  # it was killed; there are other lanes
        with self._turn:
            self._answered += 1
            self._turn.notify_all()
        return carried

    def _send_in_turn(self, what: object) -> None:
        try:
            self._line.send(what)
        except OSError:
            self._lose()

    def _lose(self) -> None:
        self._is_lost |= self._is_open
        self._is_open = False

    @property
    def is_lost(self) -> bool:
        """Whether the process was killed, such as by the system for lack of memory."""
        return self._is_lost

    def abort(self) -> None:
        """End the process; its unfinished files have no names and no ledger entries yet."""
        self._is_open = False
        self._process.kill()

    def close(self) -> None:
        """End the process; see `Executor.close`."""
        self._is_open = False
        if self._line.closed:
            return
        import subprocess  # it is loaded since the start

        self._line.close()
        with suppress(subprocess.TimeoutExpired):
            self._process.wait(_STOP_GRACE_SECONDS)
        self._process.kill()
        self._process.wait()


def start_if_it_pays(
    access: Access, destination: Destination, policy: HaulPolicy, observer: Observer, files: int
) -> list[Executor]:
    """Start a process for each processor if there are enough small files.

    Args:
        access: how places are talked to; the process gets one like it.
        files: how many are to come.
    """
    make_access = access.sharing.maker()
    if make_access is None or not pays(files, policy):
        return []
    return [
        ProcessExecutor(make_access, destination, policy, observer, access.sharing.holds)
        for _ in range(min(processes.usable_processors(), _MAX_PROCESSES))
    ]


def pays(files: int, policy: HaulPolicy) -> bool:
    """Whether a process can help: many files, several lanes, no speed limits."""
    may = policy.pace.may_hurry and not policy.one_process
    return files >= _FILES_WORTH_A_PROCESS and processes.usable_processors() > 1 and may


def _start() -> tuple[subprocess.Popen[bytes], Connection]:
    """Start a worker; return it and the connection to it."""
    package = str(Path(__file__).parent.parent.parent)
    path = [each for each in sys.path if each]
    words = [sys.executable, "-P", "-c", _PROGRAM, json.dumps([*path, package])]
    return processes.start_helper(words)
