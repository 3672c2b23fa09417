"""The policies of a haul as immutable values."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator

from willow_cart.archives.bounds import Bounds
from willow_cart.choosing.patterns import on_path, wildcard
from willow_cart.destination import PARTIAL, Destination, Stamp
from willow_cart.filing import Filed, Layout, Plan, Template, require_fields
from willow_cart.filing.plan import FilingRule
from willow_cart.identity import hash_of
from willow_cart.kinds import stem_of, tells_kind
from willow_cart.ledger.entries import Result
from willow_cart.ledger.ledger import Ledger
from willow_cart.model import State
from willow_cart.options.hauling import HandlingOptions, IfPresent, PaceOptions
from willow_cart.protocols import RetryPolicy
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.sign_ins import Secret
from willow_cart.structs import Value, replace


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
        CannotStore: one cannot lie there.
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


class Unpacking(Value):
    """How to unpack archives.

    Attributes:
        archives: wildcards, any of which an archive must match; see `choosing.patterns.wildcard`.
        to: gives the folder for what is in each; None for one of its name beside it, and for the
            file in a packed one the folder that it lies in.
        inside: wildcards, any of which a member must match by its path in there. Empty takes all.
        lift: whether the one folder that everything is in is left out.
        nested: whether archives in it are unpacked too, once.
        remove: whether the archive is removed.
        bounds: how far it may swell.
        password: of encrypted members; None for none.

    Raises:
        BadOption: a wildcard cannot be read.
    """

    archives: tuple[str, ...] = ("*",)
    to: Template | None = None
    inside: tuple[str, ...] = ()
    lift: bool = False
    nested: bool = False
    remove: bool = False
    bounds: Bounds = Bounds()
    password: Secret | None = None

    def __post_init__(self) -> None:
        for pattern in (*self.archives, *self.inside):
            on_path(pattern)

    @property
    def mark(self) -> str:
        """Return an identifier of these settings, for the ledger."""
        to = self.to and [self.to.text, self.to.name_parts]
        return json.dumps([to, self.inside, self.lift, self.nested])

    def wanted(self, filed: Iterable[Filed]) -> Iterator[Filed]:
        """Yield the files that are archives to be unpacked; all of them without patterns."""
        tests = [wildcard(pattern) for pattern in self.archives]

        def is_wanted(each: Filed) -> bool:
            offer, name = each.offer, each.path.rpartition("/")[2]
            as_named = offer if tells_kind(offer.file_name) else replace(offer, name=name)
            return not tests or any(test(as_named) for test in tests)

        return filter(is_wanted, filed)

    def chooses(self, path: str) -> bool:
        """Whether a member is wanted, by its path in the archive."""
        return not self.inside or any(on_path(pattern)(path) for pattern in self.inside)

    def folder_for(self, filed: Filed, *, is_single: bool) -> str:
        """Return the folder for the content of an archive, safe or not.

        Raises:
            FieldMissing: the template has a field that there is nothing to say for.
        """
        folder, _, name = filed.path.rpartition("/")
        if self.to is not None:
            return self.to.wish_for(replace(filed.offer, folder=folder, name=name))
        return folder if is_single else f"{folder}/{stem_of(name)}"

    def require_fields(self, filed: Iterable[Filed]) -> None:
        """Refuse a template with a field that has no value for some archives.

        Raises:
            FieldsMissing: it has a field that does not.
            BadOption: it has none, and there are several archives.
        """
        archives = [*self.wanted(filed)]
        if self.to is not None:
            self.to.require_apart(len(archives))
        require_fields(archives, lambda each: self.folder_for(each, is_single=False))


class HaulPolicy(Value):
    """The policy of a haul: the options of its command, and what they come to.

    Attributes:
        layout: the rule for where files go.
        bounds: how far an archive may swell that is inspected.
        unpack: how archives that arrive are unpacked; None if they are not.
        takes_pages: whether pages are what is wanted, those of folders included.
        one_process: whether no second process may help with small files.
    """

    layout: FilingRule = Layout.TREE
    pace: PaceOptions = PaceOptions()
    handling: HandlingOptions = HandlingOptions()
    bounds: Bounds = Bounds()
    unpack: Unpacking | None = None
    takes_pages: bool = False
    one_process: bool = False

    @property
    def retry_policy(self) -> RetryPolicy:
        """When to try again."""
        return RetryPolicy.of(self.pace)
