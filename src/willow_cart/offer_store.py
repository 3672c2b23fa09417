"""Store large numbers of offers, on disk if there are many."""

from __future__ import annotations

import marshal
import threading
from collections.abc import Iterable, Iterator
from datetime import datetime

from willow_cart.identity import AddressId
from willow_cart.model import Cell, Checksum, DataExtent, Offer, Origin, Sizes

# What of it is held in memory, in KiB; the rest is in a nameless file that goes with the process.
_CACHE_KIB = 16 << 10

# Offers are read in batches, of which a few are cached. Reading them from the database
# one by one would release the interpreter lock each time, and threads would wait for it.
_OFFERS_PER_READ = 500
_MAX_CACHED_READS = 8


class OfferStore:
    """Offers in order, accessible by number and by address; a million need little memory.

    Safe for several threads that read. Each offer bears a mark, a small number that means
    something to the code that set it.

    Args:
        offers: the first ones.
        distinct: whether each address is there once; if not, none can be found by it.

    Attributes:
        twice: how many offers were refused, since their address exists.
    """

    def __init__(self, offers: Iterable[Offer] = (), *, distinct: bool = True) -> None:
        import sqlite3  # takes longer than to show a help page

        # A database without a name is private, and in a file only as far as it is large.
        self._base = sqlite3.connect("", isolation_level=None, check_same_thread=False)
        self._base.execute(f"PRAGMA cache_size = -{_CACHE_KIB}")
        self._base.execute("PRAGMA journal_mode = OFF")
        unique = "UNIQUE" if distinct else ""
        self._base.execute(
            "CREATE TABLE offer"
            f" (number INTEGER PRIMARY KEY, id TEXT {unique}, mark INTEGER, packed BLOB)"
        )
        self._base.execute("BEGIN")
        self._lock = threading.Lock()
        self._at_hand: dict[int, list[tuple[bytes]]] = {}
        self._count = 0
        self.twice = 0
        self.sizes = Sizes()
        for offer in offers:
            self.add(offer)

    def add(self, offer: Offer, mark: int = 0) -> bool:
        """Append an offer; return False if its address exists."""
        cursor = self._base.execute(
            "INSERT OR IGNORE INTO offer VALUES (?, ?, ?, ?)",
            (self._count + 1, offer.id, mark, _pack(offer)),
        )
        if not cursor.rowcount:
            self.twice += 1
            return False
        self._count += 1
        self._at_hand.clear()
        self.sizes.add(offer)
        return True

    def __len__(self) -> int:
        return self._count

    def __getitem__(self, number: int) -> Offer:
        """Return the offer with a number, counted from 1.

        Its neighbours are cached.
        """
        if not 1 <= number <= self._count:
            raise IndexError(number)
        handful, place = divmod(number - 1, _OFFERS_PER_READ)
        with self._lock:
            at_hand = self._at_hand.get(handful)
            if at_hand is None:
                first = handful * _OFFERS_PER_READ + 1
                at_hand = self._base.execute(
                    "SELECT packed FROM offer WHERE number BETWEEN ? AND ? ORDER BY number",
                    (first, first + _OFFERS_PER_READ - 1),
                ).fetchall()
                if len(self._at_hand) == _MAX_CACHED_READS:
                    del self._at_hand[next(iter(self._at_hand))]
                self._at_hand[handful] = at_hand
        return _unpack(at_hand[place][0])

    def __iter__(self) -> Iterator[Offer]:
        return (offer for _, offer in self.numbered())

    def numbered(self, mark: int | None = None) -> Iterator[tuple[int, Offer]]:
        """Yield the offers with their numbers; only those with a mark, if one is given."""
        last = 0
        while True:
            with self._lock:
                rows = self._base.execute(
                    "SELECT number, packed FROM offer WHERE number > ? AND mark = coalesce(?, mark)"
                    " ORDER BY number LIMIT ?",
                    (last, mark, _OFFERS_PER_READ),
                ).fetchall()
            if not rows:
                return
            yield from ((number, _unpack(packed)) for number, packed in rows)
            last = rows[-1][0]

    def has(self, key: AddressId) -> bool:
        """Whether there is an offer whose address has an identifier."""
        with self._lock:
            row = self._base.execute("SELECT 1 FROM offer WHERE id = ?", (key,)).fetchone()
        return row is not None

    def find(self, key: AddressId) -> tuple[int, Offer] | None:
        """Return the offer whose address has an identifier, and its number, or None."""
        with self._lock:
            row = self._base.execute(
                "SELECT number, packed FROM offer WHERE id = ?", (key,)
            ).fetchone()
        return None if row is None else (row[0], _unpack(row[1]))

    def mark(self, number: int, mark: int) -> None:
        """Set the mark of an offer."""
        with self._lock:
            self._base.execute("UPDATE offer SET mark = ? WHERE number = ?", (mark, number))


class Spool:
    """A spool of offers, each with a note, to be read once after all were written."""

    def __init__(self) -> None:
        import tempfile

        self._file = tempfile.SpooledTemporaryFile(max_size=_CACHE_KIB << 10)  # noqa: SIM115

    def add(self, offer: Offer, note: str) -> None:
        """Append an offer."""
        packed = marshal.dumps((note, _pack(offer)))
        self._file.write(len(packed).to_bytes(4, "big") + packed)

    def __iter__(self) -> Iterator[tuple[Offer, str]]:
        with self._file as file:
            file.seek(0)
            while length := file.read(4):
                note, packed = marshal.loads(file.read(int.from_bytes(length, "big")))  # noqa: S302
                yield _unpack(packed), note


def _pack(offer: Offer) -> bytes:
    cell, one = offer.cell, offer.extent
    return marshal.dumps(
        (
            offer.address, offer.source, offer.number, offer.name, offer.folder, offer.size,
            offer.about, offer.about_within, _written(offer.modified),
            tuple((each.algorithm, each.digest, str(each.origin)) for each in offer.checksums),
            offer.text,
            offer.title, offer.headings,
            (cell.row, cell.place, cell.column, cell.title, cell.row_cells) if cell else None,
            offer.mirrors, offer.licence, offer.citation,
            (one.media_type, _written(one.begins), _written(one.ends), one.box) if one else None,
            offer.digest, offer.entity_tag, offer.size_is_hint,
        )
    )  # fmt: skip


def _written(moment: datetime | None) -> str | None:
    return moment.isoformat() if moment else None


def _moment(written: str | None) -> datetime | None:
    return datetime.fromisoformat(written) if written else None


def _unpack(packed: bytes) -> Offer:
    (
        address, source, number, name, folder, size, about, within, modified, checksums, text,
        title, headings, cell, mirrors, licence, citation, extent, digest, tag, is_hint,
    ) = marshal.loads(packed)  # noqa: S302  # this program has written it  # fmt: skip
    return Offer(
        address, source, number, name, folder, size, about, within,
        _moment(modified),
        tuple(Checksum(one, two, Origin(who)) for one, two, who in checksums), text, title,
        headings, Cell(*cell) if cell else None, mirrors, licence, citation,
        extent and DataExtent(extent[0], _moment(extent[1]), _moment(extent[2]), extent[3]),
        digest, tag, is_hint,
    )  # fmt: skip
