"""The policies of a haul as immutable values."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping
from enum import StrEnum

from willow_cart.archives.bounds import Bounds
from willow_cart.choosing.patterns import on_path, wildcard
from willow_cart.defaults import LANES, LANES_PER_HOST
from willow_cart.destination import PARTIAL, Destination, Stamp
from willow_cart.errors import BadOption
from willow_cart.filing import Filed, Layout, Plan, Template, require_fields
from willow_cart.filing.plan import FilingRule
from willow_cart.identity import hash_of
from willow_cart.kinds import stem_of, tells_kind
from willow_cart.ledger.entries import Result
from willow_cart.ledger.ledger import Ledger
from willow_cart.model import State
from willow_cart.platform import processes
from willow_cart.protocols import RetryPolicy
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.sign_ins import Secret
from willow_cart.structs import Value, field, force_setattr, replace
from willow_cart.transfer.pace import Limits, Pace


class ExistingFilePolicy(StrEnum):
    """What a haul does about a file that exists at the path of another one."""

    RENEW = "renew"
    """Ask its place whether it has changed, and fetch it if so."""
    KEEP = "keep"
    """Leave it, and make no request."""
    REPLACE = "replace"
    """Fetch it anew, changed or not."""
    FAIL = "fail"
    """Leave it, and count it as a failure."""

    def settle(self, plan: Plan, destination: Destination) -> Iterator[Result]:
        """Yield the results for existing files that need no request.

        It is known before any lane is open, and a haul of files that are all here is over at once.
        """
        if self is ExistingFilePolicy.RENEW or self is ExistingFilePolicy.REPLACE:
            return
        for number, filed in enumerate(plan, 1):
            if destination.status(filed.path) is not None:
                offer = filed.offer
                address = without_secrets(offer.address)
                if self is ExistingFilePolicy.KEEP:
                    yield Result(number, address, filed.path, State.HERE, id=filed.offer.id)
                else:
                    why = "already exists; see --if-present"
                    yield Result(
                        number, address, filed.path, State.FAILED, why, attempts=1, id=offer.id
                    )


class DuplicatePolicy(StrEnum):
    """What a haul does about a file that has the same content as another file here, by SHA-256."""

    KEEP = "keep"
    """File it anyway."""
    LINK = "link"
    """Have both names lead to one file on the disk (a hard link, POSIX `link`)."""
    SKIP = "skip"
    """Leave it out; the ledger knows which file stands for it."""


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


_FIELD = re.compile(r"\{(\w*)\}")

FIELDS = (
    "path", "into", "name", "stem", "ext", "folder", "kind", "address", "host", "source", "size",
    "sha256",
    "time",
)  # fmt: skip
"""What a command may be told; the same is in its environment, as `WILLOW_PATH` and so on."""


class ArrivalCommand(Value):
    """A command with fields in it.

    Attributes:
        text: as typed.
        words: what that comes to.

    Raises:
        BadOption: it cannot be read, or has a field that there is not.
    """

    text: str
    words: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        try:
            words = tuple(processes.words_of(self.text))
        except ValueError as error:
            raise BadOption(
                self.text, f"cannot be read: {str(error).lower()}", "check its quotes"
            ) from None
        if not words:
            raise BadOption("--on-arrival", "is empty", "name a command: 'COMMAND {path}'")
        for name in _FIELD.findall(self.text):
            if name not in FIELDS:
                raise BadOption(f"{{{name}}}", "not a field", f"fields are {', '.join(FIELDS)}")
        force_setattr(self, "words", words)

    def words_for(self, fields: Mapping[str, str]) -> list[str]:
        """Return the words of the command for a file."""
        return [_FIELD.sub(lambda found: fields[found[1]], word) for word in self.words]


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
    bounds: Bounds = field(default_factory=Bounds)
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
    """The policy of a haul.

    Attributes:
        layout: the rule for where files go.
        lanes: how many files are fetched at a time.
        lanes_per_host: how many of them from one host.
        most_lanes_per_host: how many from one that keeps getting faster with more of them; None
            for no more than those.
        retry_policy: when to try again.
        accept_anything: whether pages are filed that come where something else was requested.
        takes_pages: whether pages are what is wanted, those of folders included.
        inspect: whether what arrives is opened to see whether it is sound inside.
        bounds: how far an archive may swell that is inspected.
        must_check: whether files are refused that no checksum proves.
        tight: whether to begin although there is not enough room for everything.
        presence: what to do with files that exist already.
        pace: how politely hosts are asked.
        limits: what a single file may not do.
        twins: what to do with files whose bytes exist already under another name.
        unpack: how archives that arrive are unpacked; None if they are not.
        on_arrival: a command to be run for every file that arrives; None for none.
        keep_times: whether files get the time at which they were changed last at their places.
        one_process: whether no second process may help with small files.
        strands: on how many lanes at most one large file is fetched; None for as many as pay.
    """

    layout: FilingRule = Layout.TREE
    lanes: int = LANES
    lanes_per_host: int = LANES_PER_HOST
    most_lanes_per_host: int | None = None
    retry_policy: RetryPolicy = field(default_factory=RetryPolicy)
    accept_anything: bool = False
    takes_pages: bool = False
    inspect: bool = False
    bounds: Bounds = field(default_factory=Bounds)
    must_check: bool = False
    tight: bool = False
    existing_files: ExistingFilePolicy = ExistingFilePolicy.RENEW
    pace: Pace = field(default_factory=Pace)
    limits: Limits = field(default_factory=Limits)
    twins: DuplicatePolicy = DuplicatePolicy.KEEP
    unpack: Unpacking | None = None
    on_arrival: ArrivalCommand | None = None
    keep_times: bool = True
    one_process: bool = False
    strands: int | None = 1

    @property
    def may_hurry(self) -> bool:
        """Whether a host may be asked for several files at a time, as fast as it answers."""
        return min(self.lanes, self.lanes_per_host) > 1 and self.pace.is_free

    @property
    def connections_per_host(self) -> int:
        """Return how many connections one host may have at most."""
        return self.most_lanes_per_host or self.lanes_per_host
