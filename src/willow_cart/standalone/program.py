"""Haul the files of a cart where only Python is installed; this file needs nothing else.

Run it with any Python from version 3.8 on; it needs no other package::

    python3 FILE.py --into DIR

A file appears under its name only whole and checked; another file that lies there is kept in
`.aside`, and no link is followed. Run it again after any break: what is here is left alone, and
interrupted files are resumed, if its server proves that it is still the same (RFC 9110,
13.1.5). Exit codes: 0 all is here; 1 something did not arrive; 4 something arrived and
is not what was promised; 130 interrupted.
"""

from __future__ import annotations

import argparse
import ftplib
import hashlib
import http.client
import json
import os
import socket
import stat
import sys
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from email.utils import parsedate_to_datetime
from typing import Any, Iterator, Sequence  # as old Pythons have them

FILES: Sequence[dict[str, Any]] = ()
"""What is to come: `path`, `urls` (the address and its mirrors), `size` in bytes or None, and
`checksums`, each `ALGORITHM:HEX`."""

AGENT = "willow-cart-script"
UNFINISHED = ".unfinished"
ASIDE = ".aside"
PIECE = 1 << 20
ATTEMPTS = 5
LONGEST_WAIT = 300.0
STALL = 60.0

_stop = threading.Event()


class NoGood(Exception):
    """A file for which retrying is useless."""


class Wrong(NoGood):
    """A file with the wrong content."""


class StartOver(OSError):
    """The partial file cannot be resumed."""


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
    _tidy(os.path.join(args.into, UNFINISHED))
    told = [f"{count} {state}" for state, count in counts.items() if count]
    if len(told) == 1 and not told[0].startswith("1 "):
        told = [f"all {told[0].partition(' ')[2]}"]
    print(f"{len(FILES)} files: {', '.join(told) or 'none done'}")
    if _stop.is_set():
        _tell("interrupted; run it again to go on")
        return 130
    return 4 if counts["refused"] else 1 if counts["failed"] else 0


def _tell(line: str) -> None:
    """Print a line on standard error; what a terminal would interpret is escaped."""
    shown = (
        each if each.isprintable() else each.encode("unicode_escape").decode() for each in line
    )
    print("".join(shown), file=sys.stderr)


def _tidy(folder: str) -> None:
    """Delete useless partial files."""
    if not os.path.isdir(folder) or os.path.islink(folder):
        return
    for name in os.listdir(folder):
        file = os.path.join(folder, name)
        if not name.endswith(".json") and _is_own(file) and not os.path.getsize(file):
            os.remove(file)
    if not os.listdir(folder):
        os.rmdir(folder)


# The same as in `willow_cart.destination`, which cannot come along: no link is followed, and a
# file that was not fetched by a run of this file is moved aside.
def _folder_in(into: str, parts: Sequence[str]) -> str:
    """Return a subfolder, created step by step without following links."""
    folder = into
    for part in parts:
        if part in ("", ".", "..") or "/" in part or "\\" in part or "\0" in part:
            raise NoGood(f"{part!r} is not the name of a folder")
        folder = os.path.join(folder, part)
        if os.path.islink(folder):
            raise NoGood(f"{folder} is a link, and links are not followed; delete the link")
        if not os.path.isdir(folder):
            os.mkdir(folder)
    return folder


def _is_own(file: str) -> bool:
    """Whether a file is a regular file with a single name."""
    try:
        status = os.lstat(file)
    except OSError:
        return False
    return stat.S_ISREG(status.st_mode) and status.st_nlink == 1


def _give_name(stem: str, file: dict[str, Any], into: str) -> None:
    """Give a complete file its name; another file at that path is moved aside."""
    *parts, name = file["path"].split("/")
    path = os.path.join(_folder_in(into, parts), name)
    if os.path.isdir(path) and not os.path.islink(path):
        raise NoGood(f"{path} is a folder; rename it")
    if os.path.lexists(path):
        number = 1
        moment = time.strftime("%Y%m%dT%H%M%S")
        folder = _folder_in(into, [ASIDE, moment, *parts])
        while os.path.lexists(
            kept := os.path.join(folder, f"{name}.{number}" if number > 1 else name)
        ):
            number += 1
        os.replace(path, kept)
        _tell(f"{file['path']}: the existing file was moved to {kept}")
    os.replace(stem, path)


def bring(file: dict[str, Any], into: str) -> str:
    """Fetch one file from its address or a mirror; return the result."""
    if _is_here(file, into):
        return "already here"
    state, why = "failed", "no address"
    for url in file["urls"]:
        for attempt in range(ATTEMPTS):
            try:
                _fetch(url, file, into)
                return "arrived"
            except Wrong as error:
                state, why = "refused", str(error)
                break
            except NoGood as error:
                state, why = "failed", str(error)
                break
            # Errors of the line, of the disk, and those that urllib makes of them, are OSErrors.
            except (OSError, http.client.HTTPException, ftplib.Error, EOFError) as error:
                state, why = "failed", str(error) or type(error).__name__
                if _stop.wait(_pause_after(error, attempt)):
                    return "failed"
    _tell(f"{state}: {file['path']}: {why}")
    return state


def _is_here(file: dict[str, Any], into: str) -> bool:
    """Whether a correct file exists at its path, reached without links."""
    path = into
    for part in file["path"].split("/"):
        path = os.path.join(path, part)
        if os.path.islink(path):
            return False
    return os.path.isfile(path) and not _wrong_with(path, file)


def _pause_after(error: Exception, attempt: int) -> float:
    """Return the seconds to wait: as the server asks (RFC 9110, 10.2.3), or more each time."""
    if isinstance(error, urllib.error.HTTPError):
        asked = error.headers.get("Retry-After", "")
        if asked.isdigit():
            return min(float(asked), LONGEST_WAIT)
        if asked:
            try:
                left = parsedate_to_datetime(asked).timestamp() - time.time()
                return min(max(0.0, left), LONGEST_WAIT)
            except ValueError:
                pass
    return 0.0 if attempt + 1 == ATTEMPTS else float(2**attempt)


def _fetch(url: str, file: dict[str, Any], into: str) -> None:
    """Fetch the missing part of a file, check the whole, and give it its name."""
    os.makedirs(into, exist_ok=True)
    folder = _folder_in(into, [UNFINISHED])
    stem = os.path.join(folder, hashlib.sha256(url.encode()).hexdigest()[:24])
    for left in (stem, stem + ".json"):
        if os.path.lexists(left) and not _is_own(left):
            os.remove(left)  # a link, or a further name of another file: nothing is written through
    have, mark = _left_by(stem)
    get = _get_ftp if url.startswith("ftp") else _get_http
    total = None
    with open(stem, "ab") as part:
        try:
            for at, end, version, piece in get(url, have, mark):
                total = end
                if at == 0:
                    part.truncate(0)
                    # What came without a mark of its version is not resumed.
                    with open(stem + ".json", "w", encoding="utf-8") as note:
                        json.dump(version, note)
                part.write(piece)
                if _stop.is_set():
                    raise OSError("interrupted")
        except (StartOver, NoGood):
            part.truncate(0)
            raise
        part.flush()
        os.fsync(part.fileno())
    have = os.path.getsize(stem)
    if total is not None and have != total:
        raise OSError(f"only {have:,} of {total:,} bytes came")
    why = _wrong_with(stem, file)
    os.remove(stem + ".json")
    if why:
        os.remove(stem)
        raise Wrong(why)
    _give_name(stem, file, into)


def _left_by(stem: str) -> tuple[int, str | None]:
    """Return the size of the partial file, and the version that it belongs to."""
    try:
        with open(stem + ".json", encoding="utf-8") as note:
            mark = json.load(note)
        return (os.path.getsize(stem), mark) if mark else (0, None)
    except (OSError, ValueError):
        return 0, None


# The same as in `willow_cart.protocols.whole_head`, which cannot come along.
class _WholeHead(http.client.HTTPResponse):
    """A response whose head must be complete (RFC 9112, 2.1 and 8)."""

    def begin(self) -> None:
        """Read the head; a truncated one is an error."""
        file = self.fp
        lines: Any = _LastLine(file)
        self.fp = lines
        try:
            super().begin()
        except http.client.BadStatusLine:
            if lines.last.endswith(b"\n") or not lines.last.startswith(b"HTTP/"[: len(lines.last)]):
                raise  # it did not break off, or was never one
        finally:
            self.fp = file if self.fp is lines else self.fp
        if lines.last not in (b"\r\n", b"\n"):
            raise http.client.RemoteDisconnected("the connection ended in the midst of a head")


class _LastLine:
    def __init__(self, file: Any) -> None:
        self._file = file
        self.last = b""

    def readline(self, *sizes: int) -> bytes:
        self.last = self._file.readline(*sizes)
        return self.last

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


class _Connection(http.client.HTTPConnection):
    response_class = _WholeHead


class _SecureConnection(http.client.HTTPSConnection):
    response_class = _WholeHead


class _Plain(urllib.request.HTTPHandler):
    def http_open(self, req: Any) -> Any:
        return self.do_open(_Connection, req)


class _Secure(urllib.request.HTTPSHandler):
    def https_open(self, req: Any) -> Any:
        return self.do_open(_SecureConnection, req)


_web = urllib.request.build_opener(_Plain, _Secure)

Pieces = Iterator["tuple[int, int | None, str | None, bytes]"]


def _get_http(url: str, have: int, mark: str | None) -> Pieces:
    """Yield the content of a file, each piece with the start, the length and the version."""
    fields = {"User-Agent": AGENT, "Accept-Encoding": "identity"}
    if have and mark:
        fields.update({"Range": f"bytes={have}-", "If-Range": mark})
    try:
        asked = urllib.request.Request(url, headers=fields)  # noqa: S310  # http and https only
        answer = _web.open(asked, timeout=STALL)
    except urllib.error.HTTPError as error:
        if error.code == 416 and have:  # all of it may be here, or another version
            raise StartOver(f"{error.code} {error.reason}") from None
        if error.code in (408, 425, 429) or error.code >= 500:
            raise
        raise NoGood(f"{error.code} {error.reason}") from None
    with answer:
        start, total = 0, answer.headers.get("Content-Length")
        end = int(total) if total and total.isdigit() else None
        if answer.status == 206:
            first, _, whole = answer.headers.get("Content-Range", "").partition("/")
            start = int("".join(filter(str.isdigit, first.partition("-")[0])) or "-1")
            if start != have:
                raise StartOver("the server sends another part than was asked for")
            end = int(whole) if whole.isdigit() else None
        # Only a strong entity tag proves that two parts are of one version (RFC 9110, 8.8.1).
        tag = answer.headers.get("ETag")
        strong = tag if tag and not tag.startswith("W/") else None
        yield from _pieces(answer, start, end, strong)


def _get_ftp(url: str, have: int, mark: str | None) -> Pieces:
    """Yield the content of a file by FTP; resume (RFC 3659, 5) if size and date are the same."""
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
            yield from _pieces(data, start, size, version or None)
        ftp.voidresp()
    except ftplib.error_perm as error:
        raise NoGood(str(error)) from None
    finally:
        ftp.close()


def _pieces(data: Any, start: int, end: int | None, version: str | None) -> Pieces:
    at = start
    while piece := data.read1(PIECE):
        yield at, end, version, piece
        at += len(piece)
    if at == start:
        yield at, end, version, b""


def _wrong_with(path: str, file: dict[str, Any]) -> str:
    """Return how a file differs from what was promised; empty if it does not."""
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


if __name__ == "__main__":
    socket.setdefaulttimeout(STALL)
    sys.exit(main())
