"""The scribe: one thread that writes the ledger, so that no lane waits for it or locks it."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable
from queue import SimpleQueue

from willow_cart.errors import CannotStore
from willow_cart.records.ledger import Ledger

Entry = Callable[[Ledger], object]

# One commit takes at most so many entries, which bounds what a crash can leave unwritten.
_MOST_IN_ONE = 500


class Scribe:
    """Write a ledger from one thread, in the order of asking.

    Entries that have gathered while the last commit was under way share the next one: under load
    commits grow, and a single entry is committed at once. After a failure nothing more is written,
    since what follows may rest on what is missing.

    Args:
        ledger: to be written by nobody else until `close`.
    """

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger
        self._queue: SimpleQueue[tuple[Entry, threading.Event | None] | None] = SimpleQueue()
        self._failure: CannotStore | None = None
        self._thread = threading.Thread(target=self._work, name="scribe", daemon=True)
        self._thread.start()

    def note(self, entry: Entry) -> None:
        """Have something written soon, without waiting.

        Raises:
            CannotStore: the ledger could not be written before.
        """
        self._check()
        self._queue.put((entry, None))

    def write(self, entry: Entry) -> None:
        """Have something written, and return once it is committed.

        Raises:
            CannotStore: the ledger cannot be written.
        """
        committed = threading.Event()
        self._queue.put((entry, committed))
        committed.wait()
        self._check()

    def close(self) -> None:
        """Write what is waiting and stop.

        Raises:
            CannotStore: something that was noted could not be written.
        """
        self._queue.put(None)
        self._thread.join()
        self._check()

    def _check(self) -> None:
        if self._failure is not None:
            raise self._failure

    def _work(self) -> None:
        closing = False
        while not closing:
            entries: list[Entry] = []
            waiting: list[threading.Event] = []
            while not entries or (len(entries) < _MOST_IN_ONE and not self._queue.empty()):
                item = self._queue.get()
                if item is None:
                    closing = True
                    break
                entries.append(item[0])
                if item[1] is not None:
                    waiting.append(item[1])
            self._commit(entries)
            for committed in waiting:
                committed.set()

    def _commit(self, entries: list[Entry]) -> None:
        if self._failure is not None:
            return
        try:
            with self._ledger.transaction():
                for entry in entries:
                    entry(self._ledger)
        except sqlite3.Error as error:
            self._failure = CannotStore(
                "the ledger",
                f"cannot be written: {error}",
                "see to the disk and run the same command again; it goes on from here",
            )
