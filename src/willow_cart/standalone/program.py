"""Haul the files of a cart where only Python is installed; this file needs nothing else.

Run it with any Python from version 3.8 on::

    python3 FILE.py --into DIR

A file appears under its name only whole and checked; another file that is there is kept in
`.aside`, and no link is followed. Run it again after any break: what is here is left alone, and
interrupted files are resumed, if the server proves that they are still the same (RFC 9110,
13.1.5). Exit codes: 0 all is here; 1 something did not arrive; 4 something arrived and is not
what was promised; 130 interrupted.
"""

from __future__ import annotations

import argparse
import ftplib
import hashlib
import http.client
import json
import os
import stat
import sys
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from itertools import chain
from typing import Any, Iterator, Sequence  # as old Pythons have them

FILES: Sequence[dict[str, Any]] = ()
"""What is to come: `path`, `urls` (the address and its mirrors), `size` in bytes or None, and
`checksums`, each `ALGORITHM:HEX`."""

UNFINISHED, ASIDE = ".unfinished", ".aside"
PIECE = 1 << 20
ATTEMPTS = 5
LONGEST_WAIT = 300.0
STALL = 60.0

Pieces = Iterator["tuple[bool, int | None, str | None, bytes]"]
"""Whether the file starts over, its length, the identifier of its version, and bytes."""

_stop = threading.Event()


class Hopeless(Exception):
    """A file for which retrying is useless."""


class Wrong(Hopeless):
    """A file with the wrong content."""


def main() -> int:
    """Fetch everything, and print a summary."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").partition("\n")[0])
    parser.add_argument("--into", default=".", metavar="DIR", help="the folder to file into")
    parser.add_argument("--lanes", type=int, default=4, metavar="N", help="files at a time")
    args = parser.parse_args()
    counts = {"arrived": 0, "already here": 0, "failed": 0, "refused": 0}
    with ThreadPoolExecutor(max(1, args.lanes)) as lanes:
        coming = [lanes.submit(bring, file, args.into) for file in FILES]
        try:
            for each in coming:
                counts[each.result()] += 1
        except KeyboardInterrupt:
            _stop.set()
            for each in coming:
                each.cancel()
    told = [f"{count} {state}" for state, count in counts.items() if count]
    if len(told) == 1 and not told[0].startswith("1 "):
        told = [f"all {told[0].partition(' ')[2]}"]
    print(f"{len(FILES)} files: {', '.join(told) or 'none arrived'}")
    if _stop.is_set():
        say("interrupted; run it again to go on")
        return 130
    return 4 if counts["refused"] else 1 if counts["failed"] else 0


def say(line: str) -> None:
    """Print a line on standard error; what a terminal would interpret is escaped."""
    shown = (one if one.isprintable() else one.encode("unicode_escape").decode() for one in line)
    print("".join(shown), file=sys.stderr)


def bring(file: dict[str, Any], into: str) -> str:
    """Fetch one file from its address or a mirror; return the result."""
    if is_here(file, into):
        return "already here"
    state, why = "failed", "no address"
    for url in file["urls"]:
        for attempt in range(ATTEMPTS):
            try:
                fetch(url, file, into)
                return "arrived"
            except Hopeless as error:
                state, why = "refused" if isinstance(error, Wrong) else "failed", str(error)
                break
            # Errors of the line, of the disk, and those that urllib makes of them, are OSErrors.
            except (OSError, http.client.HTTPException, ftplib.Error, EOFError) as error:
                state, why = "failed", str(error) or type(error).__name__
                if _stop.wait(pause_after(error, attempt)):
                    return "failed"
    say(f"{state}: {file['path']}: {why}")
    return state


def pause_after(error: Exception, attempt: int) -> float:
    """Return the seconds to wait: as the server asks (RFC 9110, 10.2.3), or more each time."""
    if isinstance(error, urllib.error.HTTPError):
        asked = error.headers.get("Retry-After", "")
        if asked.isdigit():
            return min(float(asked), LONGEST_WAIT)
    return 0.0 if attempt + 1 == ATTEMPTS else float(2**attempt)


def fetch(url: str, file: dict[str, Any], into: str) -> None:
    """Fetch the missing part of a file, check the whole, and give it its name."""
    os.makedirs(into, exist_ok=True)
    name = hashlib.sha256(url.encode()).hexdigest()[:24]
    part = os.path.join(folder_in(into, [UNFINISHED]), name)
    note = part + ".json"
    for left in (part, note):
        if os.path.lexists(left) and not is_own(left):
            os.remove(left)  # a link, or a further name of another file: nothing is written through
    have, mark = left_by(part, note)
    pieces = get_ftp(url, have, mark) if url.startswith("ftp") else get_http(url, have, mark)
    first = next(pieces)
    length = first[1] if first[1] is not None else file["size"]
    with open(part, "ab") as out:
        for begins, _, version, data in chain([first], pieces):
            if begins:
                out.truncate(0)
                with open(note, "w", encoding="utf-8") as text:
                    json.dump(version, text)  # without a mark, nothing is resumed
            out.write(data)
            if _stop.is_set():
                raise OSError("interrupted")
        out.flush()
        os.fsync(out.fileno())
    have = os.path.getsize(part)
    if length is None and not file["checksums"]:
        raise OSError("the server does not say how long the file is")
    if length is not None and have != length:
        raise OSError(f"only {have:,} of {length:,} bytes came")
    why = wrong_with(part, file)
    os.remove(note)
    if why:
        os.remove(part)
        raise Wrong(why)
    give_name(part, file, into)


def left_by(part: str, note: str) -> tuple[int, str | None]:
    """Return the size of the partial file, and the version that it belongs to."""
    try:
        with open(note, encoding="utf-8") as text:
            mark = json.load(text)
        return (os.path.getsize(part), mark) if mark else (0, None)
    except (OSError, ValueError):
        return 0, None


def get_http(url: str, have: int, mark: str | None) -> Pieces:
    """Yield the content of a file."""
    fields = {"User-Agent": "willow-cart-script", "Accept-Encoding": "identity"}
    if have and mark:
        fields.update({"Range": f"bytes={have}-", "If-Range": mark})
    try:
        asked = urllib.request.Request(url, headers=fields)  # noqa: S310  # http and https only
        answer = urllib.request.urlopen(asked, timeout=STALL)  # noqa: S310
    except urllib.error.HTTPError as error:
        if error.code == 416 and mark:  # all of it may be here, or another version
            yield True, None, None, b""
            raise OSError(f"{error.code} {error.reason}") from None
        if error.code in (408, 425, 429) or error.code >= 500:
            raise
        raise Hopeless(f"{error.code} {error.reason}") from None
    with answer:
        start, length = 0, answer.headers.get("Content-Length")
        if answer.status == 206:
            span, _, length = answer.headers.get("Content-Range", "").partition("/")
            start = int("".join(filter(str.isdigit, span.partition("-")[0])) or "-1")
            if start != have:
                raise Hopeless("the server sends another part than was asked for")
        # Only a strong entity tag proves that two parts are of one version (RFC 9110, 8.8.1).
        tag = answer.headers.get("ETag")
        strong = tag if tag and not tag.startswith("W/") else None
        end = int(length) if length and length.isdigit() else None
        yield from pieces_of(answer, start, end, strong)


def get_ftp(url: str, have: int, mark: str | None) -> Pieces:
    """Yield the content of a file; resume (RFC 3659, 5) if size and date are the same."""
    place = urllib.parse.urlsplit(url)
    ftp = ftplib.FTP_TLS() if place.scheme == "ftps" else ftplib.FTP()
    try:
        ftp.connect(place.hostname or "", place.port or 21, timeout=STALL)
        ftp.login()
        if isinstance(ftp, ftplib.FTP_TLS):
            ftp.prot_p()
        name = urllib.parse.unquote(place.path).lstrip("/")
        ftp.voidcmd("TYPE I")
        try:
            size = ftp.size(name)
            version = f"{size} {ftp.voidcmd('MDTM ' + name)}"
        except ftplib.error_perm:
            size, version = None, ""
        start = have if have and version and version == mark else 0
        with ftp.transfercmd("RETR " + name, start or None) as line, line.makefile("rb") as data:
            yield from pieces_of(data, start, size, version or None)
        ftp.voidresp()
    except ftplib.error_perm as error:
        raise Hopeless(str(error)) from None
    finally:
        ftp.close()


def pieces_of(data: Any, start: int, length: int | None, version: str | None) -> Pieces:
    """Yield what a file or a response holds, after a piece without bytes."""
    yield start == 0, length, version, b""
    while piece := data.read1(PIECE):
        yield False, length, version, piece


def wrong_with(path: str, file: dict[str, Any]) -> str:
    """Return how a file differs from the expected values; empty if it does not."""
    size = os.path.getsize(path)
    if file["size"] is not None and size != file["size"]:
        return f"it has {size:,} bytes, and {file['size']:,} were promised"
    for promised in file["checksums"]:
        algorithm, _, digest = promised.partition(":")
        if algorithm not in hashlib.algorithms_available:
            continue
        measured = hashlib.new(algorithm)
        with open(path, "rb") as content:
            while piece := content.read(PIECE):
                measured.update(piece)
        if measured.hexdigest() != digest.lower():
            return f"its {algorithm} is {measured.hexdigest()}, and {digest} was promised"
    return ""


def is_here(file: dict[str, Any], into: str) -> bool:
    """Whether a correct file exists at its path, reached without links."""
    path = into
    for part in file["path"].split("/"):
        path = os.path.join(path, part)
        if os.path.islink(path):
            return False
    return os.path.isfile(path) and not wrong_with(path, file)


def is_own(path: str) -> bool:
    """Whether a path leads to a regular file with a single name."""
    status = os.lstat(path)
    return stat.S_ISREG(status.st_mode) and status.st_nlink == 1


def folder_in(into: str, parts: Sequence[str]) -> str:
    """Return a subfolder, created step by step without following links."""
    folder = into
    for part in parts:
        if part in ("", ".", "..") or "/" in part or "\\" in part or "\0" in part:
            raise Hopeless(f"{part!r} is not the name of a folder")
        folder = os.path.join(folder, part)
        if os.path.islink(folder):
            raise Hopeless(f"{folder} is a link, and links are not followed; delete the link")
        os.makedirs(folder, exist_ok=True)
    return folder


def give_name(part: str, file: dict[str, Any], into: str) -> None:
    """Give a complete file its name; another file at that path is moved aside."""
    *folders, name = file["path"].split("/")
    path = os.path.join(folder_in(into, folders), name)
    if os.path.isdir(path) and not os.path.islink(path):
        raise Hopeless(f"{path} is a folder; rename it")
    if os.path.lexists(path):
        moment = f"{time.strftime('%Y%m%dT%H%M%S')}-{os.path.basename(part)}"
        kept = os.path.join(folder_in(into, [ASIDE, moment, *folders]), name)
        os.replace(path, kept)
        say(f"{file['path']}: the existing file was moved to {kept}")
    os.replace(part, path)


if __name__ == "__main__":
    sys.exit(main())
