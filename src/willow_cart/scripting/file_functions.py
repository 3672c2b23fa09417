"""The functions for local files: carts, and folders that were hauled into."""

from __future__ import annotations

from collections.abc import Sequence
from os import PathLike
from pathlib import Path
from typing import Protocol, TypeVar, Unpack

from willow_cart.commands.audit import AuditRequest, repair
from willow_cart.commands.audit import audit as audit_folder
from willow_cart.commands.combine import CombineRequest
from willow_cart.commands.combine import combine as combine_tables
from willow_cart.commands.pack import PackRequest
from willow_cart.commands.pack import pack as pack_folder
from willow_cart.commands.pick import PickRequest, undo_picking, way_of
from willow_cart.commands.pick import pick as pick_rows
from willow_cart.commands.receipt import ReceiptRequest
from willow_cart.commands.receipt import receipt as read_account
from willow_cart.commands.refile import RefileRequest
from willow_cart.commands.refile import refile as refile_folder
from willow_cart.commands.unpack import UnpackRequest
from willow_cart.commands.unpack import unpack as unpack_archives
from willow_cart.commands.weigh import WeighRequest, draw
from willow_cart.commands.weigh import weigh as weigh_cart
from willow_cart.errors import BadOption
from willow_cart.events import NotPortable
from willow_cart.exits import Exit
from willow_cart.scripting.file_results import (
    Audit,
    CombineResult,
    PackResult,
    PickResult,
    ReceiptResult,
    RefileResult,
    UnpackResult,
    WeighResult,
)
from willow_cart.scripting.keywords import (
    AuditKeywords,
    CombineKeywords,
    PackKeywords,
    PickKeywords,
    ReceiptKeywords,
    RefileKeywords,
    UnpackKeywords,
    WeighKeywords,
)
from willow_cart.scripting.requesting import Listener, given_by_arguments, incomplete, read_request
from willow_cart.views.words import lines_of

File = str | PathLike[str]


class _Result(Protocol):
    @property
    def exit_code(self) -> Exit: ...


Done = TypeVar("Done", bound=_Result)


def pick(cart: File, **options: Unpack[PickKeywords]) -> PickResult:
    """Take rows out of the file of a cart, or put them back.

    Args:
        cart: its file.
        options: those of the command; one of `out`, `only`, `back` and `undo` says what to do.

    Raises:
        WillowCartError: an option cannot be understood, or the cart cannot be read or written.
    """
    request = read_request(PickRequest, options, given_by_arguments(cart=cart))
    if request.undo:
        return PickResult(request.cart, None, undo_picking(request))
    if (way := way_of(request)) is None:
        raise BadOption("pick()", "does not say what to do", "give out, only, back or undo = True")
    listener = Listener()
    done = pick_rows(request, way, listener)
    notes = [*listener.notes, *map(str, done.picked.unread), *done.picked.oddities]
    return PickResult(
        request.cart,
        done.picked.changed,
        done.picked.taken,
        complete=not done.exit_code,
        notes=tuple(notes),
    )


def weigh(
    cart: File,
    *,
    into: File | None = None,
    overwrite: bool = False,
    **options: Unpack[WeighKeywords],
) -> WeighResult:
    """Count and total the rows in the file of a cart; split it, or draw it.

    Args:
        cart: its file.
        into: where it is to be hauled; None for the current folder.
        overwrite: whether to replace existing parts and figures.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        WillowCartError: the cart cannot be read, or something cannot be written.
    """
    own = given_by_arguments(cart=cart, into=into, overwrite=overwrite)
    request = read_request(WeighRequest, options, own)
    listener = Listener()
    weighed = weigh_cart(request, listener)
    draw(request, weighed)
    notes = [*listener.notes, *map(str, weighed.troubles), *weighed.notes]
    return WeighResult(
        request.cart,
        weighed.weight,
        weighed.ahead,
        tuple(path for path, _part in weighed.parts),
        complete=not weighed.exit_code,
        notes=tuple(notes),
    )


def unpack(
    *archives: File,
    into: File | None = None,
    must_arrive: bool = True,
    **options: Unpack[UnpackKeywords],
) -> UnpackResult:
    """Unpack archives on this machine.

    Args:
        archives: folders that were hauled into, and archives.
        into: the folder to unpack into; None for that which they were hauled into, or lie in.
        must_arrive: whether an archive that cannot be unpacked is an error.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        Incomplete: an archive could not be unpacked, or something in it not be filed; its
            `result` is the `UnpackResult` that would be returned.
        NothingChosen: nothing is left to unpack.
        WillowCartError: an option cannot be understood, or nothing can be filed there.
        KeyboardInterrupt: it was interrupted; the same call resumes.
    """
    request = read_request(UnpackRequest, options, given_by_arguments(archives=archives, into=into))
    listener = Listener()
    account = unpack_archives(request, listener)
    done = UnpackResult(account, tuple(listener.notes))
    if account.interrupted:
        raise KeyboardInterrupt
    return _require_all(done, must_arrive, archives, done.notes)


def combine(
    *places: File,
    cart: File | None = None,
    preview: bool = False,
    overwrite: bool = False,
    must_arrive: bool = True,
    **options: Unpack[CombineKeywords],
) -> CombineResult:
    """Combine the tables in folders into one.

    Args:
        places: folders, hauled into or not, and tables.
        cart: use only files from the addresses in this cart; None for all.
        preview: whether nothing is written; the result says what there would be.
        overwrite: whether to replace an existing file of another program.
        must_arrive: whether a table that cannot be read is an error.
        options: those of the command, by their names with `_` for `-`; `to` is the file.

    Raises:
        Incomplete: a table could not be read; its `result` is the `CombineResult` that would be
            returned.
        NothingChosen: there are no tables.
        WillowCartError: an option cannot be understood, or the file cannot be written.
    """
    own = given_by_arguments(places=places, cart=cart, preview=preview, overwrite=overwrite)
    request = read_request(CombineRequest, options, own)
    listener = Listener()
    combined = combine_tables(request, listener)
    notes = (*listener.notes, *map(str, combined.troubles), *combined.notes)
    to = None if preview else request.to
    done = CombineResult(to, request.table, combined, notes)
    return _require_all(done, must_arrive, places, [*map(str, combined.troubles)])


def pack(
    folder: File,
    *,
    to: File,
    overwrite: bool = False,
    must_arrive: bool = True,
    **options: Unpack[PackKeywords],
) -> PackResult:
    """Pack what lies in a folder as one archive.

    Args:
        folder: hauled into or not.
        to: the archive; its name ends in .zip or .tar.gz.
        overwrite: whether to replace an existing archive.
        must_arrive: whether a file that is not as it was hauled is an error.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        Incomplete: a file could not be packed, or is not as it was hauled; its `result` is the
            `PackResult` that would be returned.
        NothingChosen: nothing is left to pack.
        WillowCartError: an option cannot be understood, or the archive cannot be written.
    """
    own = given_by_arguments(folder=folder, to=to, overwrite=overwrite)
    request = read_request(PackRequest, options, own)
    packed = pack_folder(request)
    clashes = lines_of(NotPortable(packed.unportable))
    notes = (*map(str, packed.troubles), *clashes)
    return _require_all(PackResult(request.to, packed, notes), must_arrive, [folder], notes)


def audit(folder: str | PathLike[str] = ".", **options: Unpack[AuditKeywords]) -> Audit:
    """Check what lies in a folder against its ledger and checksum lists.

    Args:
        folder: that was hauled into.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        UnreadableLedger: there is neither a ledger nor a list.
        WillowCartError: an option cannot be understood, or a list cannot be read.
    """
    request = read_request(AuditRequest, options, given_by_arguments(folder=folder))
    listener = Listener()
    audited = audit_folder(request, listener)
    repaired = None
    if request.repair and audited.harmed:
        repaired = repair(request, audited, listener)
    return Audit(request.folder, tuple(audited.found), repaired, tuple(listener.notes))


def receipt(
    folder: File = ".", *, overwrite: bool = False, **options: Unpack[ReceiptKeywords]
) -> ReceiptResult:
    """Read what a folder's ledger says about its hauls, or write it in another format.

    Args:
        folder: that was hauled into.
        overwrite: whether to replace an existing page.
        options: those of the command: by `run`, `runs` and `of` it says what is read, by `html`,
            `bag` and `manifest` in what form; without any it is the last haul.

    Raises:
        UnreadableLedger: no ledger, or it cannot be read.
        WillowCartError: options do not go together, or what is requested cannot be written.
    """
    own = given_by_arguments(folder=folder, overwrite=overwrite)
    request = read_request(ReceiptRequest, options, own)
    with read_account(request) as account:
        return ReceiptResult.of(request.folder, account)


def refile(
    folder: File = ".",
    *,
    preview: bool = False,
    must_arrive: bool = True,
    **options: Unpack[RefileKeywords],
) -> RefileResult:
    """Move hauled files to a new layout.

    Args:
        folder: that was hauled into.
        preview: whether nothing is moved; the result says what would be.
        must_arrive: whether a file that is missing or changed, and so stays, is an error.
        options: those of the command, by their names with `_` for `-`.

    Raises:
        Incomplete: a file is missing or changed; its `result` is the `RefileResult` that would be
            returned.
        WillowCartError: an option cannot be understood, or the files cannot be moved.
    """
    own = given_by_arguments(folder=folder, preview=preview)
    request = read_request(RefileRequest, options, own)
    refiled = refile_folder(request)
    done = RefileResult(request.folder, tuple(refiled.moves), tuple(refiled.staying), preview)
    staying = [f"{path}: missing or changed" for path in refiled.staying]
    return _require_all(done, must_arrive and not preview, [folder], staying)


def _require_all(
    done: Done, must_arrive: bool, places: Sequence[File], troubles: Sequence[str]
) -> Done:
    """Return a result if it is complete or need not be.

    Raises:
        Incomplete: something is missing.
    """
    if must_arrive and done.exit_code:
        what = ", ".join(str(Path(place)) for place in places)
        advice = "use must_arrive=False to get the rest"
        code = done.exit_code
        raise incomplete(done, what, "not complete", troubles, advice=advice, exit_code=code)
    return done
