"""The worker process that runs transfers of small files.

It only carries: which files, when, and what to do with them is decided by the process that started
it; it writes no ledger and gives no names.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator, MutableMapping, Sequence
from pathlib import Path
from typing import Self

from willow_cart.destination import Destination
from willow_cart.errors import InternalError, WillowCartError
from willow_cart.filing import Filed, Layout
from willow_cart.observer import Observer
from willow_cart.platform import disks, processes
from willow_cart.protocols import Access
from willow_cart.structs import Value, replace
from willow_cart.transfer.commit import Note
from willow_cart.transfer.downloader import Downloader
from willow_cart.transfer.executor import Outcome, ends_batch
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.partials import PartialStore
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.transfers import Transfer


class Setup(Value):
    """What a worker needs before its first batch.

    Attributes:
        make_access: makes what talks to places.
    """

    make_access: Callable[[], Access]
    root: Path
    policy: HaulPolicy

    @classmethod
    def of(cls, make_access: Callable[[], Access], root: Path, policy: HaulPolicy) -> Self:
        """Return the setup for a haul with this policy.

        Names and archives are not for workers, and rules may not be able to leave their process.
        """
        handling = replace(policy.handling, on_arrival=None)
        away = replace(policy, layout=Layout.TREE, unpack=None, handling=handling)
        return cls(make_access, root, away)


class Carried(Value):
    """The outcome of an attempt in a worker.

    Attributes:
        number: of the file.
        outcome: what became of it; None if it is not for a worker, and was not begun.
        received: how many bytes came.
        consecutive_failures: how many attempts in a row failed.
        seconds: how long it took.
    """

    number: int
    outcome: Outcome | None
    received: int = 0
    consecutive_failures: int = 0
    seconds: float = 0.0


class NotForWorkers(WillowCartError):
    """A file that the worker cannot handle; the main process fetches it."""


class NoLedger:
    """A replacement for the commit thread: a worker names no files and writes no ledger."""

    def take(self, item: object) -> None:
        """Do nothing: what is deleted here was never recorded."""

    def take_at_once(self, note: Note) -> None:  # noqa: ARG002  # as the commit thread has it
        """Refuse entries that must precede the transfer; the main process handles such files."""
        raise NotForWorkers("a file", "arrived incomplete")


def serve(word: str) -> None:
    """Run batches until the other end closes the connection.

    Args:
        word: by which the process that started this one is reached.
    """
    line, is_wanted = processes.connect_to_parent(word)
    try:
        setup: Setup = line.recv()
        file_transfer = _make_carrier(setup)
        while is_wanted():
            batch = line.recv()
            line.send(list(carry_all(file_transfer, batch, is_wanted)))
    except (EOFError, OSError):
        pass  # the other process has ended, or needs this one no more
    os._exit(0)  # connections that are open are of no use any more


def _make_carrier(setup: Setup) -> FileTransfer:
    destination = Destination(setup.root, alone=False)  # the main process has the lock
    partials = PartialStore(destination, {}, disks.boot_mark())
    stop = threading.Event()
    downloader = Downloader(
        setup.make_access(),
        partials,
        NoLedger(),
        Observer(),
        stop,
        setup.policy,
        destination.room,
    )
    return FileTransfer(downloader, destination, None)


def carry_all(
    file_transfer: FileTransfer,
    batch: Sequence[tuple[int, Filed]],
    is_wanted: Callable[[], bool],
    moving: MutableMapping[int, Transfer] | None = None,
) -> Iterator[Carried]:
    """Run transfers until the host is busy; return the rest.

    Args:
        file_transfer: makes the attempts.
        batch: the files by their numbers.
        is_wanted: whether the next one is to be begun.
        moving: where the transfer in progress stands meanwhile, by its number.
    """
    moving = {} if moving is None else moving
    for number, filed in batch:
        if not is_wanted():
            return
        transfer = moving[number] = Transfer(number, filed)
        carried = _carry(file_transfer, transfer)
        del moving[number]
        yield carried
        if ends_batch(carried.outcome):
            return


def _carry(file_transfer: FileTransfer, transfer: Transfer) -> Carried:
    outcome: Outcome | None
    try:
        outcome = file_transfer.attempt(transfer, transfer.number)
    except NotForWorkers:
        outcome = None
    except WillowCartError as error:
        outcome = error
    except Exception as error:  # one odd file must not end the worker
        outcome = InternalError.of(transfer.shown, error)
    return Carried(
        transfer.number,
        outcome,
        transfer.received,
        transfer.consecutive_failures,
        transfer.seconds,
    )
