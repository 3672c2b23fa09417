"""BagIt (RFC 8493): bags that are written, bags on servers, and their lists of remote files."""

from __future__ import annotations

import errno
import hashlib
import os
import re
import shutil
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import TextIO
from urllib.parse import quote

from willow_cart.addresses import normalise
from willow_cart.checks.digests import checksums_of
from willow_cart.destination import FileTree
from willow_cart.errors import BadAddress, CannotStore, NotServed, UnreadableSource, plainly
from willow_cart.ledger.entries import Arrival
from willow_cart.model import Issue, Offer
from willow_cart.protocols import Access
from willow_cart.protocols.base import fetch_whole
from willow_cart.redaction import without_secrets
from willow_cart.structs import Record, field
from willow_cart.units import read_count
from willow_cart.version import __version__

# Only these three are encoded, which would tear a line or be taken for a code.
_CODES = {"%": "%25", "\n": "%0A", "\r": "%0D"}
_MEANT = {code: character for character, code in _CODES.items()}


def encode_path(path: str) -> str:
    """Encode a path for a bag's manifest or its fetch.txt."""
    return re.sub("[%\n\r]", lambda character: _CODES[character[0]], path)


def decode_path(path: str) -> str:
    """Decode a path; the hexadecimal digits may be in either case."""
    return re.sub("%(25|0[AaDd])", lambda code: _MEANT[code[0].upper()], path)


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


DECLARATION = b"BagIt-Version:"
"""How `bagit.txt` begins (RFC 8493, 2.1.1)."""

# The strongest first: a bag may have several manifests, each of the whole payload (2.1.3).
_ALGORITHMS = ("sha512", "sha256", "sha1", "md5")

_LINE = re.compile(r"([0-9A-Fa-f]+)\s+\*?(\S.*)")
_FETCHED = re.compile(r"(\S+)\s+(\S+)\s+(\S.*)")


class BagContent(Record):
    """The payload of a bag on a server.

    Attributes:
        offers: the files, with the checksums of a manifest.
        problems: lines that are not understood.
        odd: addresses that are invalid, with the reasons.
    """

    offers: list[Offer] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)
    odd: list[str] = field(default_factory=list)


def read_bag(access: Access, address: str, source: str) -> BagContent:
    """Read the manifest of a bag, and what else has to be fetched for it.

    Args:
        address: of the bag's `bagit.txt`.
        source: the source that the offers are of.

    Raises:
        TransferFailed: a manifest could not be fetched.
        UnreadableSource: the bag has no manifest.
    """
    content = BagContent()
    folder = address[: address.rindex("/") + 1]
    elsewhere = {
        decode_path(found[3]): (found[1], read_count(found[2]))
        for line in _lines(access, f"{folder}fetch.txt") or ()
        if (found := _FETCHED.fullmatch(line))
    }
    for algorithm in _ALGORITHMS:
        lines = _lines(access, f"{folder}manifest-{algorithm}.txt")
        if lines is None:
            continue
        for line in lines:
            found = _LINE.fullmatch(line)
            path = decode_path(found[2]) if found else ""
            if found is None or not path.startswith("data/") or ".." in path.split("/"):
                content.problems.append(f"line of the manifest not understood: {line[:80]!r}")
                continue
            where, size = elsewhere.get(path, (folder + quote(path), None))
            try:
                offered = normalise(where)
            except BadAddress as error:
                content.odd.append(f"{error.thing} ({error.reason})")
                continue
            above, _, name = path.rpartition("/")
            promised = checksums_of(f"{algorithm}:{found[1]}", algorithm)
            content.offers.append(
                Offer(offered, source, name=name, folder=above, size=size, checksums=promised)
            )
        return content
    raise UnreadableSource(without_secrets(folder), "a bag without a manifest", "check the address")


def _lines(access: Access, address: str) -> Iterator[str] | None:
    """Return the lines of a file of the bag; None if there is no such file."""
    try:
        _, content = access.retrier.run(lambda: fetch_whole(address, access))
    except NotServed:
        return None
    return filter(None, content.decode("utf-8-sig", "replace").splitlines())


_FETCH_LINE = re.compile(r"(\S+)[ \t]+(\d+|-)[ \t]+(\S.*)")

# What a bag holds is below this folder of it.
_PAYLOAD = "data/"


def looks_like_fetch_list(line: str) -> bool:
    """Whether a line belongs to a fetch.txt."""
    found = _FETCH_LINE.fullmatch(line.strip())
    return found is not None and "://" in found[1] and found[3].startswith(_PAYLOAD)


def read_fetch_list(lines: Iterable[str], place: str) -> Iterator[Offer | Issue]:
    """Read offers from lines of the form `URL LENGTH PATH`; a length of `-` is unknown."""
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        found = _FETCH_LINE.fullmatch(line.strip())
        if found is None:
            yield Issue(f"{place}, line {number}", "is not URL LENGTH PATH; fix it")
            continue
        url, length, path = found.groups()
        folder, _, name = decode_path(path).rpartition("/")
        try:
            address = normalise(url)
        except BadAddress as error:
            yield Issue(f"{place}, line {number}", str(error))
            continue
        yield Offer(
            address, place, number, name, folder, None if length == "-" else read_count(length)
        )


def write_fetch_list(offers: Iterable[Offer], to: TextIO) -> None:
    """Write offers without secrets, one per line; paths outside `data/` are moved into it."""
    for offer in offers:
        path = offer.path if offer.path.startswith(_PAYLOAD) else _PAYLOAD + offer.path
        length = "-" if offer.size is None else offer.size
        to.write(f"{without_secrets(offer.address)} {length} {encode_path(path)}\n")
