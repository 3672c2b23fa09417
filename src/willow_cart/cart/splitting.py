"""Split the taken rows of a cart over drives or machines.

Files take whole blocks of a disk, so each is reckoned up to the next. A size that a listing has
rounded counts as a tenth larger. Files of unknown size go where most space is left.
"""

from __future__ import annotations

import heapq
from abc import ABC, abstractmethod
from array import array
from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack
from pathlib import Path

from willow_cart.cart.rows import CartRow, RowReader
from willow_cart.cart.sheet import Sheet, writing
from willow_cart.errors import BadOption, CannotStore
from willow_cart.model import Offer, Sizes
from willow_cart.replacing import require_output
from willow_cart.structs import Record, field
from willow_cart.units import count_of, format_size

# The block of the file systems that drives are formatted with; larger ones are rare.
_BLOCK_BYTES = 4096

# How much larger than said a file may be whose size was rounded.
_ROUNDING_FACTOR = 1.1

# All are written at once, and a process may not open many more files.
_MAX_PARTS = 200

# Folders further down than this are packed with the one that they are in.
_MAX_DEPTH = 60


class CartPart(Record):
    """One part of a cart.

    Attributes:
        name: what it is: `drive-1`, `share-3`.
        capacity: bytes that it may hold; None for as many as there are.
        reckoned: bytes that it is reckoned to take on a disk.
    """

    name: str
    capacity: int | None
    reckoned: int = 0
    sizes: Sizes = field(default_factory=Sizes)

    @property
    def room(self) -> int:
        """Return the free bytes."""
        assert self.capacity is not None, "the part is a drive"
        return self.capacity - self.reckoned


class _Folder(Record):
    """A folder in the tree that is packed.

    Attributes:
        whole: bytes of all that is in and below it.
        files: the places in the cart of the files right in it.
        folders: those right in it.
    """

    whole: int = 0
    files: array[int] = field(default_factory=lambda: array("L"))
    folders: dict[str, _Folder] = field(default_factory=dict)


class Packing(ABC):
    """An assignment of every offer to a part.

    Attributes:
        parts: what the offers are given to.
        homeless: bytes and number of the files for which no part has room.
    """

    def __init__(self, parts: Sequence[CartPart]) -> None:
        self.parts = parts
        self.homeless = Sizes()
        self._sizes = array("q")
        self._homes = array("h")

    def __getitem__(self, place: int) -> int:
        """Return the number of the part, from 0, of the offer at an index."""
        return self._homes[place]

    def pack(self, offers: Iterable[Offer]) -> None:
        """Assign every offer to a part; the offers are read once."""
        for place, offer in enumerate(offers):
            size = _reckoned(offer)
            self._sizes.append(-1 if size is None else size)
            self._take_in(place, offer)
        self._homes = array("h", [-1]) * len(self._sizes)
        self._share_out()

    def _take_in(self, place: int, offer: Offer) -> None:
        """Collect what is needed about an offer before parts are assigned; usually nothing."""
        del place, offer

    @abstractmethod
    def _share_out(self) -> None:
        """Assign a part to every index."""

    def _put(self, place: int, part: int) -> None:
        self._homes[place] = part
        self.parts[part].reckoned += max(0, self._sizes[place])

    def _unknown(self) -> Iterator[int]:
        return (place for place, size in enumerate(self._sizes) if size < 0)

    def _by_size(self, places: Iterable[int]) -> list[int]:
        """Return the indices of offers of known size, the largest first."""
        sizes = self._sizes
        known = (place for place in places if sizes[place] >= 0)
        return sorted(known, key=lambda place: -sizes[place])


class DrivePacking(Packing):
    """A packing on drives that keeps folders together where they fit.

    A folder goes with all below it to the drive on which it leaves the least room; one that fits
    nowhere is taken apart into its folders and files, the largest first. If that leaves anything
    over, folders count for nothing and every file goes by itself.
    """

    def __init__(self, parts: Sequence[CartPart]) -> None:
        super().__init__(parts)
        self._root = _Folder()

    def _take_in(self, place: int, offer: Offer) -> None:
        size = self._sizes[place]
        if size < 0:
            return
        folder = self._root
        folder.whole += size
        for name in offer.path.split("/")[:-1][:_MAX_DEPTH]:
            folder = folder.folders.setdefault(name, _Folder())
            folder.whole += size
        folder.files.append(place)

    def _share_out(self) -> None:
        self._pack_folder(self._root)
        if self.homeless.files:
            self.homeless = Sizes()
            for part in self.parts:
                part.reckoned = 0
            self._pack_files(range(len(self._sizes)))
        for place in self._unknown():
            self._put(place, max(range(len(self.parts)), key=lambda each: self.parts[each].room))

    def _pack_folder(self, folder: _Folder) -> None:
        home = self._tightest(folder.whole)
        if home is not None:
            self._put_all(folder, home)
        elif folder.folders:
            below = list(folder.folders.values())
            right = sum(self._sizes[place] for place in folder.files)
            below.append(_Folder(right, folder.files))  # belongs together like a folder of its own
            for each in sorted(below, key=lambda each: -each.whole):
                self._pack_folder(each)
        else:
            self._pack_files(folder.files)

    def _pack_files(self, places: Iterable[int]) -> None:
        for place in self._by_size(places):
            home = self._tightest(self._sizes[place])
            if home is None:
                self.homeless.files += 1
                self.homeless.exact += self._sizes[place]
            else:
                self._put(place, home)

    def _tightest(self, size: int) -> int | None:
        """Return the drive on which this many bytes leave the least free space.

        None if they fit on none.
        """
        rooms = ((part.room, number) for number, part in enumerate(self.parts))
        return min((each for each in rooms if each[0] >= size), default=(0, None))[1]

    def _put_all(self, folder: _Folder, home: int) -> None:
        for place in folder.files:
            self._put(place, home)
        for below in folder.folders.values():
            self._put_all(below, home)


class SharePacking(Packing):
    """A packing into equal shares: each offer, the largest first, goes to the smallest share."""

    def _share_out(self) -> None:
        least = [(0, number) for number in range(len(self.parts))]
        for place in self._by_size(range(len(self._sizes))):
            there, home = least[0]
            heapq.heapreplace(least, (there + self._sizes[place], home))
            self._put(place, home)
        # Nothing is known of the others but their number, so that is what is dealt out evenly.
        for turn, place in enumerate(self._unknown()):
            self._put(place, turn % len(self.parts))


def _reckoned(offer: Offer) -> int | None:
    if offer.size is None and offer.about is None:
        return None
    size = offer.size if offer.size is not None else int((offer.about or 0) * _ROUNDING_FACTOR)
    return -(-size // _BLOCK_BYTES) * _BLOCK_BYTES


def split(path: Path, packing: Packing, *, overwrite: bool = False) -> list[tuple[Path, CartPart]]:
    """Write a cart for each part; every taken row is in exactly one of them.

    The parts have all the columns of the cart, also those that a user has added.

    Args:
        packing: the parts; what is given to them is noted there.
        overwrite: whether files are replaced that are not carts with the same columns.

    Returns:
        The files that were written, next to the cart, with their content.

    Raises:
        UnreadableSource: it is not a cart.
        BadOption: there are too many parts, another file is where one would be, or rows of it
            are not understood, so that it is not known where they belong.
        CannotStore: the drives have no room for all, or a file cannot be written.
    """
    if len(packing.parts) > _MAX_PARTS:
        raise BadOption(
            f"{len(packing.parts):,} parts", "are too many", f"split into {_MAX_PARTS} at the most"
        )
    sheet = Sheet.at(path)
    packing.pack(entry.offer for entry in _taken(sheet))
    if packing.homeless.files:
        room = ", ".join(format_size(part.room) for part in packing.parts)
        raise CannotStore(
            str(path),
            f"{count_of(packing.homeless.files, 'file')} with {format_size(packing.homeless.exact)}"
            f" in blocks of {_BLOCK_BYTES:,} bytes do not fit; the drives have {room} left",
            "name more or larger drives, or take rows out",
        )
    files = [file_of(path, part.name) for part in packing.parts]
    for file in files:
        require_output(file, sheet.is_alike, overwrite=overwrite)
    with ExitStack() as open_files:
        writes = [
            open_files.enter_context(writing(file, sheet.columns, sheet.style, overwrite=overwrite))
            for file in files
        ]
        for place, entry in enumerate(_taken(sheet)):
            home = packing[place]
            writes[home](entry.row.cells)
            packing.parts[home].sizes.add(entry.offer)
    return list(zip(files, packing.parts, strict=True))


def file_of(path: Path, name: str) -> Path:
    """Return the file of a part, next to its cart."""
    return path.with_name(f"{path.stem}.{name}{path.suffix}")


def _taken(sheet: Sheet) -> Iterable[CartRow]:
    for entry in RowReader(sheet).entries():
        if not isinstance(entry, CartRow):
            raise BadOption(
                entry.trouble.place, entry.trouble.why, "fix it, so that every file is included"
            )
        if entry.taken:
            yield entry
