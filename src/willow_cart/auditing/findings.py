"""The findings of an audit, on disk if they are many."""

from __future__ import annotations

import marshal
from collections import Counter
from collections.abc import Iterable, Iterator
from itertools import islice

from willow_cart.auditing.at_rest import Audited, Finding
from willow_cart.ledger.entries import Arrival
from willow_cart.structs import astuple

# Worst first, as a user wants to read them.
ORDER = (
    Finding.CHANGED, Finding.BROKEN, Finding.MISSING, Finding.GONE, Finding.NEWER, Finding.MOVED,
    Finding.UNTOLD, Finding.UNKNOWN, Finding.UNCHANGED,
)  # fmt: skip

HARMED = (Finding.CHANGED, Finding.MISSING)
"""The findings of files that a repair hauls again."""

_CACHE_KIB = 4 << 10


class Findings:
    """What was found of each file, the worst first; a million take little memory.

    Of a file that is as it arrived, the ledger's entry is not kept.

    Attributes:
        counts: how many files there are by finding.
        size: bytes of all files.
    """

    def __init__(self) -> None:
        import sqlite3  # takes longer than to show a help page

        # A database without a name is private, and in a file only as far as it is large.
        self._base = sqlite3.connect("", isolation_level=None)
        self._base.execute(f"PRAGMA cache_size = -{_CACHE_KIB}")
        self._base.execute("PRAGMA journal_mode = OFF")
        self._base.execute(
            "CREATE TABLE found (rank INTEGER, path TEXT, why TEXT, size INTEGER, url TEXT,"
            " arrival BLOB, PRIMARY KEY (rank, path)) WITHOUT ROWID"
        )
        self._base.execute("BEGIN")
        self.counts: Counter[Finding] = Counter()
        self.size = 0

    def add(self, audited: Audited) -> None:
        """Add the finding of one file."""
        arrival = audited.arrival
        packed = None
        if arrival is not None and audited.finding in HARMED:
            packed = marshal.dumps(astuple(arrival))
        self._base.execute(
            "INSERT OR REPLACE INTO found VALUES (?, ?, ?, ?, ?, ?)",
            (ORDER.index(audited.finding), audited.path, audited.why, audited.size, audited.url,
             packed),
        )  # fmt: skip
        self.counts[audited.finding] += 1
        self.size += audited.size

    def replace(self, findings: Iterable[Audited]) -> None:
        """Put findings in the place of others of the same files, which were unchanged."""
        for audited in findings:
            self._base.execute(
                "DELETE FROM found WHERE (rank, path) = (?, ?)",
                (ORDER.index(Finding.UNCHANGED), audited.path),
            )
            self.counts[Finding.UNCHANGED] -= 1
            self.size -= audited.size
            self.add(audited)

    def __len__(self) -> int:
        return self.counts.total()

    def __iter__(self) -> Iterator[Audited]:
        return self._select(0, len(ORDER))

    def __getitem__(self, place: int) -> Audited:
        for audited in islice(self, place % max(1, len(self)), None):
            return audited
        raise IndexError(place)

    def of(self, finding: Finding) -> Iterator[Audited]:
        """Yield the files with a finding."""
        return self._select(ORDER.index(finding), ORDER.index(finding))

    def _select(self, first: int, last: int) -> Iterator[Audited]:
        rows = self._base.execute(
            "SELECT * FROM found WHERE rank BETWEEN ? AND ? ORDER BY rank, path", (first, last)
        )
        for rank, path, why, size, url, packed in rows:
            arrival = Arrival(*marshal.loads(packed)) if packed else None  # noqa: S302  # its own
            yield Audited(path, ORDER[rank], why, size, arrival, url)
