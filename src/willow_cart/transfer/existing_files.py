"""Examine the files that exist in the destination."""

from __future__ import annotations

from collections.abc import Iterator

from willow_cart.checks.digests import digest_of, verdict_of, written
from willow_cart.destination import Destination, Stamp
from willow_cart.destination.destination import PARTIAL
from willow_cart.filing.plan import Plan
from willow_cart.identity import hash_of
from willow_cart.ledger.entries import Arrival, Result, timestamp
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.model import Checksum, State
from willow_cart.options.groups import IfPresent
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value, replace
from willow_cart.transfer.transfers import Transfer


class FilesHere(Value):
    """Examines the existing files at the paths of offers.

    Attributes:
        destination: where that is.
        held: what the ledger knows; None for nothing yet.
    """

    destination: Destination
    held: KnownFiles | None

    def proved(self, transfer: Transfer) -> Result | None:
        """Return the result for an existing file whose expected checksums match.

        No request is made.
        """
        promised = transfer.offer.checksums
        if not promised:
            return None
        arrival = self.unharmed(transfer)
        if arrival and {str(each) for each in promised} <= set(arrival.expected.split()):
            return transfer.result(State.HERE, arrival=transfer.restamped)
        path = transfer.filed.path
        stamp = self.destination.stamp(path)
        if stamp is None:
            return None
        with self.destination.open(path) as file:
            found = digest_of(file, {"sha256", *(each.algorithm for each in promised)})
        if any(found[each.algorithm] != each for each in promised):
            return None
        return transfer.result(State.HERE, arrival=self._describe(transfer, stamp, found["sha256"]))

    def unharmed(self, transfer: Transfer) -> Arrival | None:
        """Return the ledger's entry for a file that is unchanged.

        None unless it still is there as it was filed.
        """
        arrival = transfer.restamped or self._known(transfer)
        if arrival is None:
            return None
        stamp = self.destination.stamp(arrival.lies_at)
        if stamp == arrival.stamp:
            return arrival
        if arrival.instead == "members":
            return arrival if self._members_are_here(arrival) else None
        # A folder that was copied or restored has the same bytes under other time stamps.
        if stamp is None or stamp.size != arrival.size:
            return None
        if self._sha256(arrival.lies_at).digest != arrival.sha256:
            return None
        return transfer.restamp(replace(arrival, mtime_ns=stamp.mtime_ns))

    def same(self, transfer: Transfer, unharmed: Arrival | None, sha256: Checksum) -> Stamp | None:
        """Return the stamp of an existing file with the same content as the one that arrived.

        Args:
            transfer: what came.
            unharmed: its ledger entry, if that can be believed.
            sha256: of the received bytes.
        """
        if unharmed:
            is_same = unharmed.instead != "members" and unharmed.sha256 == sha256.digest
            return unharmed.stamp if is_same else None
        path = transfer.filed.path
        stamp = self.destination.stamp(path)
        return stamp if stamp is not None and self._sha256(path) == sha256 else None

    def knows(self, transfer: Transfer) -> bool:
        """Whether the ledger has an entry for a file, wherever it is now."""
        return self._known(transfer) is not None

    def _sha256(self, path: str) -> Checksum:
        with self.destination.open(path) as file:
            return digest_of(file, ["sha256"])["sha256"]

    def _members_are_here(self, archive: Arrival) -> bool:
        """Whether the files from an archive exist that was removed after unpacking."""
        if self.held is None:
            return False
        members = [each for each in self.held.members_of(archive) if each.archive == archive.sha256]
        return bool(members) and all(
            self.destination.stamp(each.lies_at) == each.stamp for each in members
        )

    def _known(self, transfer: Transfer) -> Arrival | None:
        return None if self.held is None else self.held.get(transfer.id)

    def _describe(self, transfer: Transfer, stamp: Stamp, sha256: Checksum) -> Arrival:
        """Return the ledger's entry for an existing file that was verified.

        It may have come in any way.
        """
        known = self._known(transfer)
        if known is not None and known.sha256 != sha256.digest:
            known = None
        return Arrival(
            address=transfer.shown,
            final_address=known.final_address if known else transfer.shown,
            path=transfer.filed.path,
            time=timestamp(),
            size=stamp.size,
            sha256=sha256.digest,
            entity_tag=known.entity_tag if known else None,
            last_modified=known.last_modified if known else None,
            expected=written(transfer.offer.checksums),
            verdict=verdict_of(transfer.offer.checksums, stamp.size),
            mtime_ns=stamp.mtime_ns,
        )


def settle_present(if_present: IfPresent, plan: Plan, destination: Destination) -> Iterator[Result]:
    """Yield the results for existing files that need no request.

    They are known before any lane is open, and a haul of files that are all here is over at once.
    """
    if if_present in (IfPresent.RENEW, IfPresent.REPLACE):
        return
    for number, filed in enumerate(plan, 1):
        if destination.status(filed.path) is not None:
            offer = filed.offer
            address = without_secrets(offer.address)
            if if_present is IfPresent.KEEP:
                yield Result(number, address, filed.path, State.HERE, id=offer.id)
            else:
                why = "already exists; see --if-present"
                yield Result(
                    number, address, filed.path, State.FAILED, why, attempts=1, id=offer.id
                )


def give_own_files(ledger: Ledger, destination: Destination, path: str) -> dict[str, Stamp]:
    """Give a file of their own to those that another file stands for, before it is replaced.

    They are linked, or copied where the disk has no links, and entered in the ledger before this
    returns.

    Args:
        ledger: of the destination.
        destination: where the files are.
        path: of the file that is to be replaced, moved or deleted.

    Returns:
        The paths of the files given, with their stamps.

    Raises:
        CannotStore: one cannot be stored there.
        OSError: one cannot be copied.
    """
    given: dict[str, Stamp] = {}
    for arrival in ledger.dependants_of(path):
        if destination.stamp(path) != arrival.stamp:
            continue  # its bytes are lost already; `audit` reports it
        if destination.stamp(arrival.path) != arrival.stamp:
            temporary = f"{PARTIAL}/{hash_of(arrival.path)}"
            destination.link_or_copy_within(path, temporary)
            destination.place(temporary, arrival.path)
        given[arrival.path] = arrival.stamp
        with ledger.transaction():
            ledger.replace_by(arrival, "")
    if given:
        destination.sync_folders()
        with ledger.transaction(lasting=True):
            pass
    return given
