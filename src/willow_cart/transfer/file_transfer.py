"""One attempt at a file: compare with the existing one, receive, check, and commit."""

from __future__ import annotations

import errno
import hashlib
import os
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path

from willow_cart.addresses import host_of
from willow_cart.checks.digests import (
    LENGTH_ONLY,
    NOTHING,
    proves_composite,
    verdict_of,
    weakness_of,
    written,
)
from willow_cart.destination import PARTIAL, Destination, cannot_store
from willow_cart.errors import (
    TOO_MANY_FILES,
    CheckFailed,
    TooSlow,
    TransferFailed,
    TransientError,
    Unproved,
    too_many_files,
)
from willow_cart.events import Received, Started
from willow_cart.kinds import better_name, extension_of
from willow_cart.ledger.entries import Arrival, Result, timestamp
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.model import Checksum, Metadata, Offer, Origin, State, Validators
from willow_cart.options.groups import IfPresent
from willow_cart.protocols import Resumability, Unchanged
from willow_cart.protocols.base import Download
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.protocols.web_delivery import md5_mark_in
from willow_cart.redaction import without_secrets
from willow_cart.structs import replace
from willow_cart.transfer.commit import VerifiedFile
from willow_cart.transfer.downloader import UNPROVED_ADVICE, Downloader, ReceivedFile
from willow_cart.transfer.existing_files import FilesHere
from willow_cart.transfer.partials import PartialFile, Segment
from willow_cart.transfer.transfers import Transfer
from willow_cart.units import format_size

_PROGRESS_BYTES = 64 << 10

# How far a time or a small size in a listing may be from the exact one.
_ROUNDED_TIME = timedelta(minutes=1)
_ROUNDED_BYTES = 1024

# What fits in 64 bits, as the ledger keeps it: up to the year 2262.
_LATEST_NANOSECONDS = (1 << 63) - 1


@dataclass(frozen=True, slots=True)
class FileTransfer:
    """Transfers files; shared by all lanes.

    Attributes:
        downloader: fetches their bytes.
        destination: where files go.
        held: what the ledger knows; None for nothing yet.
        not_md5: the hosts whose entity tags look like MD5s, but are not.
    """

    downloader: Downloader
    destination: Destination
    held: KnownFiles | None
    here: FilesHere = field(init=False)
    not_md5: set[str] = field(default_factory=set)

    def __post_init__(self) -> None:
        object.__setattr__(self, "here", FilesHere(self.destination, self.held))

    def attempt(
        self, transfer: Transfer, lane: int, came: Download | TransferFailed | None = None
    ) -> Result | VerifiedFile:
        """Make one attempt at a file.

        Args:
            came: the answer to a request that was sent before, or why it failed; None for none.

        Returns:
            The result, or the complete, checked file, to be renamed.

        Raises:
            TransientError: it did not come, and another attempt may fetch it; what came is kept in
                `transfer.partial` if the rest can be joined to it.
            PermanentError, CannotStore, VerificationError: it did not come; not retried in this
                run.
            Interrupted: the user wants to stop; what came is kept.
        """
        before = transfer.partial.size if transfer.partial else 0
        replaces = self.downloader.policy.handling.if_present is IfPresent.REPLACE
        transfer.start_timing()
        try:
            if not transfer.attempts:
                if not replaces and (proved := self.here.proved(transfer)):
                    return proved
                self.downloader.find(transfer)
                before = transfer.partial.size if transfer.partial else 0
            transfer.begin_attempt()
            held = self.version_here(transfer) if came is None else None
            brought = self.downloader.bring(transfer, lane, held, came)
            if isinstance(brought, ReceivedFile) and self._broken_promise(transfer, brought):
                # Corruption in transit is likelier than a bad original: joined from
                # parts that do not belong together, or changed during it. Once more, in one.
                transfer.use_one_lane()
                self.downloader.discard(transfer)
                again = self.downloader.bring(transfer, lane, None)
                if isinstance(again, ReceivedFile):
                    again = replace(again, earlier=brought.found["sha256"])
                brought = again
            if isinstance(brought, Unchanged):
                return transfer.result(State.UNCHANGED, arrival=transfer.restamped)
            return self._land(transfer, brought)
        except TransientError as error:
            gained = transfer.partial.size - before if transfer.partial else 0
            transfer.failed(gained=gained >= _enough(transfer) and not isinstance(error, TooSlow))
            raise
        except OSError as error:
            if error.errno in TOO_MANY_FILES:
                raise too_many_files(transfer.filed.path) from error
            raise cannot_store(transfer.filed.path, error) from error
        finally:
            transfer.stop_timing()

    def version_here(self, transfer: Transfer) -> Validators | None:
        """Return the identifiers of the existing version; None if the file is fetched regardless.

        A promised checksum that the file here does not have cannot be answered by "unchanged".
        """
        replaces = self.downloader.policy.handling.if_present is IfPresent.REPLACE
        if transfer.partial or transfer.offer.checksums or replaces:
            return None
        unharmed = self.here.unharmed(transfer)
        return (unharmed and unharmed.validators) or None

    def unchanged(self, transfer: Transfer) -> Result:
        """Return the result for a file whose version here is current."""
        transfer.begin_attempt()
        return transfer.result(State.UNCHANGED, arrival=transfer.restamped)

    def take_small(self, transfer: Transfer, lane: int, came: Download) -> VerifiedFile | None:
        """Write a file that has come whole, and of which nothing was here.

        Returns:
            None if it has to be looked at as `attempt` does: by a checksum, or because a listing
            says otherwise.

        Raises:
            WillowCartError, OSError: it is not what its name says, or cannot be written.
        """
        content, facts, offer = came.whole, came.facts, transfer.offer
        if content is None or not self._is_plain(facts, offer) or came.notes:
            return None
        modified = _modified(facts, offer)
        if _unlike_listing(offer, len(content), facts) or _is_far_from(offer.about, len(content)):
            return None
        self.downloader.require_content(transfer, came, content, is_all=True)
        self.downloader.observer.note(Started(lane, transfer.filed, len(content), 0))
        transfer.comes(came)
        name = str(transfer.number)
        self.destination.write_partial(name, content)
        mtime_ns = self._stamp(f"{PARTIAL}/{name}", modified)
        transfer.begin_attempt()
        transfer.count(len(content))
        self.downloader.observer.note(Received(lane, len(content)))
        sha256 = hashlib.sha256(content).hexdigest()
        verdict = verdict_of((), facts.length)
        arrival = _arrival(
            transfer, facts, size=len(content), sha256=sha256, verdict=verdict,
            mtime_ns=mtime_ns, modified=modified,
        )  # fmt: skip
        return VerifiedFile(
            f"{PARTIAL}/{name}",
            transfer.result(State.ARRIVED, arrival=arrival),
            named=_named_by_server(transfer, facts),
        )

    def _is_plain(self, facts: Metadata, offer: Offer) -> bool:
        """Whether only the first bytes of a file are to be checked."""
        policy = self.downloader.policy
        return not (
            offer.checksums
            or facts.checksums
            or facts.coding
            or not facts.proves_end
            or policy.handling.inspect
            or policy.handling.must_check
            or policy.pace.largest is not None
        )

    def is_new(self, transfer: Transfer) -> bool:
        """Whether nothing is here of a file, by another name either."""
        is_here = self.destination.status(transfer.filed.path) is not None
        return not (is_here or self.here.knows(transfer))

    def assist(self, transfer: Transfer, strand: Segment, address: str, lane: int) -> bool:
        """Fetch a strand of another lane's file.

        Args:
            strand: the stretch.
            address: where to ask for it.
            lane: the lane that fetches it.

        Returns:
            False if the server does not serve parts of that version.

        Raises:
            WillowCartError: as for an attempt; nothing of it counts against the file.
        """
        try:
            return self.downloader.help(transfer, strand, address, lane)
        except OSError as error:
            raise cannot_store(transfer.filed.path, error) from error

    def use_next_mirror(self, transfer: Transfer) -> bool:
        """Queue a failed file at its next mirror; return False if none is left.

        What has come of it is resumed there if a checksum will prove that it fits.
        """
        if not transfer.next_mirror():
            return False
        if transfer.partial is not None and transfer.offer.checksums:
            transfer.partial.joining = Resumability.BLIND
        else:
            self.downloader.discard(transfer)
        return True

    def _land(self, transfer: Transfer, whole: ReceivedFile) -> Result | VerifiedFile:
        """Check a complete file, and pass it to the commit thread."""
        partial = whole.partial
        verdict = self._check(transfer, whole)
        unsound = ""
        if self.downloader.policy.handling.inspect:
            from willow_cart.checks.inspection import inspect  # and what reads archives

            with self.destination.open(partial.file) as file:
                unsound = inspect(
                    file,
                    transfer.filed.path.rpartition("/")[2],
                    self.downloader.policy.bounds,
                    self.downloader.require_going_on,
                )
        sha256 = whole.found["sha256"]
        modified = _modified(partial.facts, transfer.offer)
        if not partial.facts.coding and (
            unlike := _unlike_listing(transfer.offer, partial.size, partial.facts)
        ):
            if _is_newer(modified, transfer.offer.modified):
                transfer.note(f"{unlike}; it was changed after it was listed")
            elif transfer.offer.size_is_hint:
                transfer.note(unlike)
            else:
                unsound = "; ".join(filter(None, (unlike, unsound)))
        if _is_far_from(transfer.offer.about, partial.size):
            about = format_size(transfer.offer.about or 0)
            transfer.note(f"it has {partial.size:,} bytes, the listing said about {about}")
        arrival = _arrival(
            transfer, partial.facts, size=partial.size, sha256=sha256.digest,
            expected=written(self._promised(transfer, partial)), verdict=verdict,
            mtime_ns=self._stamp(partial.file, modified), modified=modified,
        )  # fmt: skip
        unharmed = self.here.unharmed(transfer)
        if present := self.here.same(transfer, unharmed, sha256):
            self.downloader.discard(transfer)
            stands = unharmed.instead if unharmed else ""
            arrival = replace(arrival, mtime_ns=present.mtime_ns, instead=stands)
            return transfer.result(State.HERE, arrival=arrival)
        transfer.release_partial()
        return VerifiedFile(
            partial.file,
            transfer.result(State.ARRIVED, unsound, arrival),
            unharmed.own_stamp if unharmed else None,
            partial.record(transfer.offer, arrival) if partial.recorded else None,
            _named_by_server(transfer, partial.facts),
        )

    def _stamp(self, file: str, modified: datetime | None) -> int:
        """Set the modification time of a file if requested; return its time in nanoseconds.

        Args:
            file: its path below the destination.
            modified: its modification time at the server.

        Raises:
            OSError: the file is gone.
        """
        if modified is not None and self.downloader.policy.handling.times == "keep":
            nanoseconds = round(modified.timestamp() * 1_000_000) * 1000
            if abs(nanoseconds) <= _LATEST_NANOSECONDS:
                with suppress(OSError, OverflowError):  # a time that this disk cannot write
                    return self.destination.set_modified(file, nanoseconds)
        stamp = self.destination.stamp(file)
        if stamp is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), file)
        return stamp.mtime_ns

    def _check(self, transfer: Transfer, whole: ReceivedFile) -> str:
        """Compare the checksums of a file with the expected ones; return how it was checked.

        Raises:
            CheckFailed: it is not what was promised; the bytes are put where they can be seen.
            Unproved: it has to be proved, and is not; as above.
        """
        partial = whole.partial
        is_same = whole.earlier == whole.found["sha256"]
        promised = self._broken_promise(transfer, whole)
        if promised and promised.is_hint and is_same:
            self.not_md5.add(host_of(transfer.address))
            transfer.note("the entity tag looks like an MD5, but is not one")
            promised = self._broken_promise(transfer, whole)
        if promised:
            measured = whole.found[promised.algorithm]
            kept = self._refuse(transfer, whole)
            raise CheckFailed(
                transfer.shown,
                f"{promised.algorithm} mismatch: got {_short(measured)}, expected"
                f" {_short(promised)} from {promised.origin}; two downloads"
                f" {'agreed' if is_same else 'differed'}",
                f"kept in {kept}",
                expected=str(promised),
                found=str(measured),
                kept=kept,
            )
        verdict = verdict_of(self._promised(transfer, partial), partial.facts.length)
        composite = partial.facts.composite
        if verdict == LENGTH_ONLY and composite and self._proves(partial, *composite):
            verdict = f"md5 of its {composite[1]} parts from {Origin.STORE}{weakness_of('md5')}"
        if verdict == NOTHING and not partial.facts.proves_end:
            transfer.note("the server announced no length; it may be incomplete")
        if self.downloader.policy.handling.must_check and verdict in (LENGTH_ONLY, NOTHING):
            kept = self._refuse(transfer, whole)
            reason = f"no checksum; kept in {kept}"
            raise Unproved(transfer.shown, reason, UNPROVED_ADVICE)
        return verdict

    def _promised(self, transfer: Transfer, partial: PartialFile) -> tuple[Checksum, ...]:
        """Return all expected checksums of a file, from its source and its server."""
        promised = (*transfer.offer.checksums, *partial.facts.checksums)
        if self.not_md5 and host_of(transfer.address) in self.not_md5:
            return tuple(each for each in promised if not each.is_hint)
        return promised

    def _broken_promise(self, transfer: Transfer, whole: ReceivedFile) -> Checksum | None:
        """Return the first expected checksum that does not match."""
        promised = self._promised(transfer, whole.partial)
        return next((each for each in promised if whole.found[each.algorithm] != each), None)

    def _proves(self, partial: PartialFile, digest: str, parts: int) -> bool:
        with self.destination.open(partial.file) as file:
            return proves_composite(file, digest, parts)

    def _refuse(self, transfer: Transfer, whole: ReceivedFile) -> Path:
        sha256 = whole.found["sha256"].digest
        kept = self.destination.refuse(whole.partial.file, transfer.filed.path, sha256)
        self.downloader.discard(transfer)
        return kept


def _enough(transfer: Transfer) -> int:
    """Return how many bytes count as progress: 64 KiB, or a twentieth of a small file.

    A server that drips would otherwise never be given up.
    """
    length = transfer.partial.facts.length if transfer.partial else None
    return _PROGRESS_BYTES if length is None else min(_PROGRESS_BYTES, max(1, length // 20))


def _arrival(
    transfer: Transfer,
    facts: Metadata,
    *,
    size: int,
    sha256: str,
    expected: str = "",
    verdict: str,
    mtime_ns: int,
    modified: datetime | None,
) -> Arrival:
    """Return the ledger's entry for a file that has come; see `Arrival`."""
    return Arrival(
        address=transfer.shown,
        final_address=without_secrets(facts.address),
        path=transfer.filed.path,
        time=timestamp(),
        size=size,
        sha256=sha256,
        entity_tag=facts.validators.entity_tag,
        last_modified=facts.validators.last_modified,
        expected=expected,
        verdict=verdict,
        mtime_ns=mtime_ns,
        decoded=facts.coding,
        media_type=facts.content_type,
        modified="" if modified is None else modified.isoformat(timespec="seconds"),
        licence=transfer.offer.licence,
        citation=transfer.offer.citation,
    )


def _named_by_server(transfer: Transfer, facts: Metadata) -> str:
    """Return the name that the server gives a file whose address names none; empty otherwise.

    What an earlier run has filed by such a name keeps it.
    """
    if not facts.file_name or transfer.offer.name is not None:
        return ""
    own = transfer.offer.file_name
    is_own = extension_of(transfer.filed.path) == extension_of(own)
    return better_name(own, facts.file_name) if is_own else ""


def _modified(facts: Metadata, offer: Offer) -> datetime | None:
    """Return the modification time according to the server, or else to the listing."""
    return facts.modified or parse_date(facts.validators.last_modified) or offer.modified


def _unlike_listing(offer: Offer, size: int, facts: Metadata) -> str:
    """Describe how a file differs from what its source has listed; empty if it does not."""
    if offer.size is not None and offer.size != size:
        return f"it has {size:,} bytes, the listing said {offer.size:,}"
    # The tags that stores list are those of their answers if they are made of the bytes.
    listed = md5_mark_in(offer.entity_tag) if offer.entity_tag else ""
    came = md5_mark_in(facts.validators.entity_tag or "") if listed else ""
    if listed and came and listed != came:
        return (
            f"it is another version than the listing said: its entity tag is {came}, not {listed}"
        )
    return ""


def _is_newer(modified: datetime | None, listed: datetime | None) -> bool:
    """Whether a file was changed since it was listed; listings may round to minutes."""
    return modified is not None and listed is not None and modified - listed > _ROUNDED_TIME


def _is_far_from(about: int | None, size: int) -> bool:
    """Whether a size cannot be one that was rounded so, up or down."""
    if about is None or abs(size - about) <= _ROUNDED_BYTES:
        return False
    return not about <= 2 * size <= 4 * about


def _short(checksum: Checksum) -> str:
    return f"{checksum.digest[:12]}..."
