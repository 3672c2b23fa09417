"""Write the copies, whose references lead to each other and to no other host.

The copies are made again from what was served every time, so they never depend on what was made
before; a file is only written where it would differ.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from html import escape
from pathlib import Path
from posixpath import relpath
from typing import TYPE_CHECKING
from urllib.parse import quote

from willow_cart.destination import Destination, Stamp, cannot_store
from willow_cart.errors import BadAddress
from willow_cart.filing import make_plan
from willow_cart.ledger.entries import Arrival, Made
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.model import OWN_FOLDER, Offer
from willow_cart.offer_store import OfferStore
from willow_cart.offline_copies.documents import (
    DocumentSort,
    OfflineDocument,
    media_type_of,
    open_document,
)
from willow_cart.offline_copies.page_rewriting import NOTHING
from willow_cart.offline_copies.scope import START, ReadableCopy, Role, plain_address
from willow_cart.offline_copies.taking import TakenPages
from willow_cart.redaction import without_secrets
from willow_cart.structs import Record, Value, field
from willow_cart.units import count_of
from willow_cart.version import __version__

if TYPE_CHECKING:
    from willow_cart.offline_copies.taking import Missing, TakenPages

_STYLE = """
body { font: 16px/1.5 system-ui, sans-serif; max-width: 60rem; margin: 2rem auto; padding: 0 1rem;
  color: #1f2a26; background: #fbfbf8; }
h1 { font-size: 1.5rem; } h2 { font-size: 1.15rem; margin-top: 2rem; }
ul { list-style: none; padding-left: 1.2rem; border-left: 1px solid #cfd6cf; }
body > ul { border: 0; padding: 0; } li { margin: .15rem 0; }
.folder { font-weight: 600; } small { color: #55645c; } a { color: #1d5f7a; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; }
td, th { border-bottom: 1px solid #dde2dc; padding: .3rem .6rem .3rem 0; vertical-align: top;
  overflow-wrap: anywhere; }
@media (prefers-color-scheme: dark) {
  body { color: #d8ddd4; background: #14191a; } a { color: #8ec5e0; } small { color: #9aa79f; }
  ul { border-color: #3a4543; } td, th { border-color: #2b3433; }
}
"""


class StartPageEntry(Value):
    """A page that can be read.

    Attributes:
        path: below the destination.
        title: in one line; empty where it has none.
        address: that it was taken from.
    """

    path: str
    title: str
    address: str


def make_start_page(
    entries: Sequence[StartPageEntry], starts: Sequence[str], taken: TakenPages, when: str
) -> str:
    """Return the start page as self-contained HTML.

    Args:
        entries: the pages that can be read.
        starts: the paths of those that were requested.
        taken: the fetched files, and the failures.
        when: the time.
    """
    titles = {entry.path: entry.title or entry.path for entry in entries}
    links = ", ".join(
        f'<a href="{quote(path)}">{escape(titles.get(path, path))}</a>' for path in starts
    )
    sources = ", ".join(
        f'<a href="{escape(page, quote=True)}">{escape(page)}</a>'
        for page in map(without_secrets, taken.scope.pages)
    )
    parts = [
        '<!doctype html><html lang="en"><head><meta charset="utf-8">',
        '<meta name="viewport" content="width=device-width">',
        f"<title>{escape(titles.get(starts[0], 'Pages') if starts else 'Pages')}, offline</title>",
        f"<style>{_STYLE}</style></head><body>",
        f"<h1>{links or 'Nothing to read'}</h1>",
        f"<p>Copied on {escape(when)} from {sources}: {count_of(len(entries), 'page')}.",
        "Links to anything else are addresses on the web.</p>",
        "<h2>Pages</h2>",
        *_tree(entries),
    ]
    if taken.missing:
        parts += ["<h2>Missing files</h2>", *_table(taken.missing)]
    parts.append(f"<p><small>Made by willow-cart {__version__}</small></p></body></html>")
    return "\n".join(parts) + "\n"


def _tree(entries: Sequence[StartPageEntry]) -> list[str]:
    """Return the pages by folder, as on the site."""
    lines = []
    open_folders: list[str] = []
    for entry in sorted(entries, key=_in_order):
        _, *folders, name = entry.path.split("/")
        common = 0
        while common < min(len(folders), len(open_folders)) and (
            folders[common] == open_folders[common]
        ):
            common += 1
        lines += ["</ul></li>"] * (len(open_folders) - common)
        if not lines:
            lines.append("<ul>")
        for folder in folders[common:]:
            lines.append(f'<li><span class="folder">{escape(folder)}/</span><ul>')
        open_folders = folders
        title = escape(entry.title or name)
        lines.append(
            f'<li><a href="{quote(entry.path)}" title="{escape(entry.address, quote=True)}">{title}'
            f"</a> <small>{escape(name)}</small></li>"
        )
    return [*lines, *["</ul></li>"] * len(open_folders), "</ul>"] if lines else []


def _in_order(entry: StartPageEntry) -> tuple[list[str], bool, str]:
    """Sort a folder: its index first, pages before folders."""
    *folders, name = entry.path.split("/")
    return folders, name != "index.html", name


def _table(missing: Sequence[Missing]) -> list[str]:
    rows = [
        f"<tr><td>{escape(each.address)}<td>{escape(str(each.role))}<td>{escape(each.why)}"
        f"{'; an earlier version is here' if each.kept else ''}"
        f"<td>{'<br>'.join(map(escape, each.wanted_by)) or 'you'}</tr>"
        for each in missing
    ]
    head = "<table><tr><th>address<th>is<th>why<th>wanted by</tr>"
    return [head, *rows, "</table>"]


class Face(Value):
    """The properties by which two addresses are recognised as the same page.

    Attributes:
        final: where redirects led to.
        sha256: of its bytes.
        wanted: the canonical address of the page; the final one if it gives none.
    """

    final: str
    sha256: str
    wanted: str


def one_address_each(faces: Mapping[str, Face]) -> dict[str, str]:
    """Map each address to the one that stands for its page.

    Several are of one page where they redirect to the same; or where they have the same bytes and
    want to be known by the same address (RFC 6596), a slash or an index at its end aside. Pages
    that want to be known by another one and differ from it are pages of their own: of a long list
    in parts each may name the first.
    """
    main: dict[str, str] = {}
    by_final: dict[str, str] = {}
    by_bytes: dict[tuple[str, str], str] = {}
    # The address without a redirect is the one, whatever came first.
    for address in sorted(faces, key=lambda each: (faces[each].final != each, len(each), each)):
        face = faces[address]
        same_bytes = (face.sha256, _bare(face.wanted))
        main[address] = by_final.get(face.final) or by_bytes.get(same_bytes) or address
        by_final.setdefault(face.final, main[address])
        by_bytes.setdefault(same_bytes, main[address])
    return main


def _bare(address: str) -> str:
    """Return an address without a final slash or index name."""
    folder, _, name = address.removesuffix("/").rpartition("/")
    return folder if name in ("index.html", "index.htm") else address.removesuffix("/")


_MAKING = f"{OWN_FOLDER}/making"


class Readings(Record):
    """What was written.

    Attributes:
        start: where to begin to read.
        pages: how many pages there are.
        files: how many other files.
        same: how many addresses lead to the file of another one.
        written: how many files were written, since they are new or differ from before.
        removed: how many of an earlier time were removed.
        kept: paths of such that were changed since, and so were left.
    """

    start: Path
    pages: int = 0
    files: int = 0
    same: int = 0
    written: int = 0
    removed: int = 0
    kept: list[str] = field(default_factory=list)


def make_readable(taken: TakenPages, into: Path, *, when: str) -> Readings | None:
    """Write readable copies of everything that was fetched.

    Args:
        when: the time of the run, for the start page.

    Returns:
        The copies; None if there is nothing to copy, and where there are copies already
        and the taking was ended too early to make better ones: they stay as they are.

    Raises:
        UnusableDestination: a haul is running there.
        CannotStore: something cannot be written.
    """
    if taken.interrupted and not has_ledger(into):
        return None  # before anything was fetched
    with Destination(into) as destination, Ledger(ledger_path(into)) as ledger:
        before = ledger.made()
        if not taken.arrivals or (taken.interrupted and before):
            return None
        return _Maker(taken, into, destination, before).make(ledger, when)


class _Maker:
    def __init__(
        self, taken: TakenPages, into: Path, destination: Destination, before: list[Made]
    ) -> None:
        self._taken = taken
        self._into = into
        self._destination = destination
        self._before = {each.path: each for each in before}
        self._made: dict[str, Made] = {}
        self._done = Readings(into / START)
        faces: dict[str, Face] = {}
        types: dict[str, str] = {}
        for address, arrival in taken.arrivals.items():
            document = self._open(address)
            final = plain_address(arrival.final_address)
            wanted = None if document is None else document.canonical
            faces[address] = Face(final, arrival.sha256, plain_address(wanted) if wanted else final)
            types[address] = media_type_of(arrival) if document is None else document.media_type
        self._main = one_address_each(faces)
        offers = OfferStore(Offer(address) for address in dict.fromkeys(self._main.values()))
        plan = make_plan(offers, ReadableCopy(types))
        self._paths = {filed.offer.address: filed.path for filed in plan}

    def _open(self, address: str) -> OfflineDocument | None:
        role = self._taken.roles.get(address, Role.LINK)
        return open_document(self._destination, self._taken.arrivals[address], role)

    def make(self, ledger: Ledger, when: str) -> Readings:
        """Write all copies and the start page, and record them."""
        done, scope = self._done, self._taken.scope
        done.same = len(self._main) - len(self._paths)
        self._destination.empty_folder(_MAKING)
        entries = []
        for address, path in self._paths.items():
            document = self._open(address)
            source = self._taken.arrivals[address].address
            if document is None:
                self._lay_beside(self._taken.arrivals[address], path)
            else:
                self._write(path, self._rewritten(document, path), source)
            if document is not None and document.sort is DocumentSort.PAGE:
                entries.append(StartPageEntry(path, document.title, source))
        done.pages, done.files = len(entries), len(self._paths) - len(entries)
        mains = (self._main.get(plain_address(page)) for page in scope.pages)
        starts = [self._paths[main] for main in mains if main is not None]
        page = make_start_page(entries, starts, self._taken, when)
        self._write(START, page.encode(), " ".join(map(without_secrets, scope.pages)))
        self._do_away_with_others()
        with ledger.transaction(lasting=True):
            ledger.keep_made(self._made.values())
        with suppress(OSError):
            self._destination.delete_folder(_MAKING)
        return done

    def _rewritten(self, document: OfflineDocument, path: str) -> bytes:
        """Return a document with references to the local copies.

        None of them leads to another host by itself.
        """

        def new(reference: str, role: Role) -> str | None:
            try:
                address = document.resolver.resolve(reference)
            except BadAddress:
                return NOTHING if role.is_need else None
            if address is None:
                return None
            bare, mark, fragment = reference.partition("#")
            behind = f"{mark}{fragment}"
            local = self._paths.get(self._main.get(plain_address(address), ""))
            if local == path and role is Role.LINK and fragment:
                return behind
            if local is not None and role is not Role.ADDRESS:
                folder = path.rpartition("/")[0]
                return quote(relpath(local, folder), safe="/~!$&'()*+,;=:@") + behind
            if role.is_need or role is Role.HINT:
                return NOTHING
            return address.partition("#")[0] + behind if bare else None

        return document.rewrite(new)

    def _lay_beside(self, arrival: Arrival, path: str) -> None:
        """Put an unchanged file at its readable path as well, as a link if possible."""
        made = Made(path, arrival.sha256, arrival.size, arrival.address)
        self._made[path] = made
        there, served = map(self._destination.status, (path, arrival.lies_at))
        if there is not None and served is not None and os.path.samestat(there, served):
            return
        if self._is_as_made(path, made) is None:
            self._place(path, lambda file: self._link_or_copy(arrival.lies_at, file))

    def _link_or_copy(self, path: str, to: str) -> None:
        with suppress(OSError):
            self._destination.link(path, to)
            return
        with self._destination.open(path) as file, self._destination.create(to) as copy:
            shutil.copyfileobj(file, copy)

    def _write(self, path: str, content: bytes, source: str) -> None:
        """Write a file unless it exists with the same content."""
        made = Made(path, hashlib.sha256(content).hexdigest(), len(content), source)
        self._made[path] = made
        if self._is_as_made(path, made) is None:
            self._place(path, lambda file: self._write_new(file, content))

    def _write_new(self, path: str, content: bytes) -> None:
        with self._destination.create(path) as file:
            file.write(content)

    def _place(self, path: str, put: Callable[[str], None]) -> None:
        """Write a file next to its path, and rename it after syncing.

        Raises:
            CannotStore: it cannot be stored there.
        """
        before = self._before.get(path)
        earlier = None if before is None else self._is_as_made(path, before)
        beside = f"{_MAKING}/file"
        try:
            with suppress(FileNotFoundError):
                self._destination.delete(beside)
            put(beside)
            self._destination.sync_files([beside])
        except OSError as error:
            raise cannot_store(path, error) from None
        self._destination.place(beside, path, replaces=earlier)
        self._done.written += 1

    def _is_as_made(self, path: str, made: Made) -> Stamp | None:
        """Return the stamp of a file with exactly this content, or None."""
        stamp = self._destination.stamp(path)
        if stamp is None or stamp.size != made.size:
            return None
        try:
            with self._destination.open(path) as file:
                found = hashlib.file_digest(file, "sha256").hexdigest()  # type: ignore[arg-type]
        except OSError:
            return None
        return stamp if found == made.sha256 else None

    def _do_away_with_others(self) -> None:
        """Delete copies that are no longer part of the pages."""
        for path, before in self._before.items():
            if path in self._made:
                continue
            if self._is_as_made(path, before) is None:
                there = self._destination.status(path)
                self._done.kept += [] if there is None else [path]
                continue
            try:
                self._destination.delete(path)
            except OSError as error:
                raise cannot_store(path, error) from None
            self._done.removed += 1
        gone = [path for path in self._before if path not in self._made]
        self._destination.drop_empty_folders(gone)
