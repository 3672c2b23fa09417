"""Bags: copies of a destination with checksums for passing on (RFC 8493)."""

from __future__ import annotations

import errno
import hashlib
import os
import shutil
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path

from willow_cart.bag_paths import encode_path
from willow_cart.destination import FileTree
from willow_cart.errors import CannotStore, plainly
from willow_cart.ledger.entries import Arrival
from willow_cart.version import __version__

_DECLARATION = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"


def write_bag(root: Path, arrivals: Iterable[Arrival], bag: Path, note: str = "") -> int:
    """Write a bag with the files of a destination.

    The files are linked where the disk can do that, and copied otherwise. They are entered with
    the checksums that the ledger has; the recipient of the bag checks them.

    Args:
        arrivals: the files in the folder.
        bag: the folder to make; it must not be there.
        note: the user's description of the bag.

    Returns:
        How many files are in it.

    Raises:
        CannotStore: the bag cannot be written, or a file of the destination is not there.
    """
    payload: list[str] = []
    size = 0
    # What a kill leaves has another name, and is deleted by the next time.
    unfinished = bag.with_name(f".{bag.name}.unfinished")
    try:
        if os.path.lexists(bag):
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(bag))
        shutil.rmtree(unfinished, ignore_errors=True)
        unfinished.mkdir(parents=True)
        for arrival in arrivals:
            place = unfinished / "data" / arrival.path
            place.parent.mkdir(parents=True, exist_ok=True)
            with FileTree(root) as tree:
                tree.link_or_copy(arrival.path, place)
            payload.append(f"{arrival.sha256}  {encode_path(f'data/{arrival.path}')}\n")
            size += arrival.size
        tags = {
            "bagit.txt": _DECLARATION,
            "bag-info.txt": _info(size, len(payload), note),
            "manifest-sha256.txt": "".join(payload),
        }
        for name, text in tags.items():
            (unfinished / name).write_text(text, "utf-8", newline="")
        sums = {name: hashlib.sha256(text.encode()).hexdigest() for name, text in tags.items()}
        lines = (f"{digest}  {name}\n" for name, digest in sums.items())
        (unfinished / "tagmanifest-sha256.txt").write_text("".join(lines), "utf-8", newline="")
        unfinished.rename(bag)
    except FileExistsError:
        raise CannotStore(str(bag), "already exists", "name a new folder") from None
    except OSError as error:
        shutil.rmtree(unfinished, ignore_errors=True)
        about = error.filename or str(bag)
        raise CannotStore(str(about), plainly(error), "run an audit and check the disk") from None
    return len(payload)


def _info(size: int, files: int, note: str) -> str:
    """Return the text of bag-info.txt (RFC 8493, 2.2.2)."""
    described = f"External-Description: {' '.join(note.split())}\n" if note else ""
    return (
        f"{described}Bagging-Date: {datetime.now(UTC):%Y-%m-%d}\n"
        f"Payload-Oxum: {size}.{files}\n"
        f"Bag-Software-Agent: willow-cart {__version__}\n"
    )
