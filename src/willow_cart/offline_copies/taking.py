"""Fetch pages in passes, until everything they need and everything in scope is here.

What is on a page is only known once it is here, so it goes in rounds: the pages of a level, then
what they need, then what that needs, then the pages of the next level. Each round is a haul like
any other, with resume and conditional requests; in the ledger they are one run.
"""

from __future__ import annotations

import threading
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping
from pathlib import Path

from willow_cart.addresses import host_of
from willow_cart.choosing import Choice, Choosing
from willow_cart.choosing.choosing import Learn
from willow_cart.destination import FileTree
from willow_cart.errors import BadAddress, Exit, UnusableDestination, gravest
from willow_cart.hauling.run import MultiPassRun, haul_offers
from willow_cart.hauling.summary import HaulSummary
from willow_cart.identity import address_id
from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.ledger.receipt import open_receipt
from willow_cart.model import Offer, State
from willow_cart.observer import Observer, watched
from willow_cart.offline_copies.documents import OfflineDocument, open_document
from willow_cart.offline_copies.scope import START, AsServed, Out, Role, Scope, plain_address
from willow_cart.protocols import Access
from willow_cart.redaction import without_secrets
from willow_cart.sources.walk import Robots
from willow_cart.structs import Record, Value, field, replace
from willow_cart.transfer.policy import HaulPolicy

# Referring pages recorded for a missing file.
_MAX_REFERRERS = 5


class Missing(Value):
    """A file that could not be fetched.

    Attributes:
        address: without secrets.
        why: the reason.
        wanted_by: the addresses of pages that have it; a few of them.
        kept: whether an earlier version of it is here.
    """

    address: str
    why: str
    wanted_by: tuple[str, ...]
    role: Role
    kept: bool


class TakenPages(Record):
    """The files that were fetched.

    Attributes:
        scope: what belonged to it.
        arrivals: the existing files, by the address that references lead to.
        roles: what each of them was wanted for at first.
        missing: what could not be fetched.
        left: how many references there are of each kind that was not taken.
        hosts: how many files that pages need there are at each host that was not asked.
        accounts: of the hauls, in their order.
        choice: the result of choosing among links.
    """

    scope: Scope
    arrivals: dict[str, Arrival] = field(default_factory=dict)
    roles: dict[str, Role] = field(default_factory=dict)
    missing: list[Missing] = field(default_factory=list)
    left: Counter[Out] = field(default_factory=Counter)
    hosts: Counter[str] = field(default_factory=Counter)
    accounts: list[HaulSummary] = field(default_factory=list)
    choice: Choice = field(default_factory=lambda: Choice([]))

    @property
    def interrupted(self) -> bool:
        """Whether it was interrupted."""
        return any(account.interrupted for account in self.accounts)

    @property
    def counts(self) -> Counter[State]:
        """Return the number of files by state."""
        return sum((account.counts for account in self.accounts), Counter())

    @property
    def planned(self) -> int:
        """Return the number of requested files."""
        return sum(account.planned for account in self.accounts)

    @property
    def received(self) -> int:
        """Return the bytes received."""
        return sum(account.received for account in self.accounts)

    @property
    def seconds(self) -> float:
        """Return the duration in seconds."""
        return sum(account.seconds for account in self.accounts)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code: the most serious of all passes."""
        return gravest([account.exit_code for account in self.accounts])


"""Makes what is reported of one haul."""


def take(
    scope: Scope,
    into: Path,
    access: Access,
    policy: HaulPolicy,
    *,
    choosing: Choosing | None = None,
    learn: Learn | None = None,
    ignore_robots: bool = False,
    command: str = "",
    note: str = "",
    observer: Observer | None = None,
    stop: threading.Event | None = None,
) -> TakenPages:
    """Fetch pages with everything they need, unchanged.

    Args:
        scope: what belongs to it.
        into: the destination; everything is in its folder `as-served`.
        policy: how it is hauled; its layout does not count.
        choosing: which of what links lead to is taken, by address, date and size; None for all.
        learn: requests the dates and sizes that rules have to know; None leaves them unknown.
        ignore_robots: whether to take also what a site asks programs not to; for one's own.
        command: the command line, for the ledger.
        note: the user's note.
        stop: set it to end early; files fetched by then are returned.

    Raises:
        WillowCartError: nothing can be hauled there.
    """
    _require_same_pages(into, scope)
    taking = _Taking(
        TakenPages(scope),
        into,
        access,
        replace(policy, layout=AsServed(), takes_pages=True),
        choosing or Choosing(),
        learn,
        None if ignore_robots else Robots(access),
        command,
        note,
        observer or Observer(),
        stop or threading.Event(),
    )
    taking.run()
    return taking.taken


def _require_same_pages(into: Path, scope: Scope) -> None:
    """Refuse a folder with copies of other pages, which would be removed.

    Raises:
        UnusableDestination: it is one.
    """
    if not has_ledger(into):
        return
    with Ledger(ledger_path(into)) as ledger:
        started = next((each.source for each in ledger.made() if each.path == START), "")
    others = set(started.split()) - set(map(without_secrets, scope.pages))
    if others:
        raise UnusableDestination(
            str(into),
            f"holds the pages of {' and '.join(sorted(others))}",
            "name another folder with --into, or take them together",
        )


class _Taking(Record):
    taken: TakenPages
    into: Path
    access: Access
    policy: HaulPolicy
    choosing: Choosing
    learn: Learn | None
    robots: Robots | None
    command: str
    note: str
    observer: Observer
    stop: threading.Event
    seen: set[str] = field(default_factory=set)
    left: set[str] = field(default_factory=set)
    wanting: defaultdict[str, list[str]] = field(default_factory=lambda: defaultdict(list))
    deeper: dict[str, Role] = field(default_factory=dict)
    passes: MultiPassRun = field(default_factory=MultiPassRun)
    followed: int = 0

    def run(self) -> None:
        """Fetch one level of links after the other, each with the files it needs."""
        scope = self.taken.scope
        level = dict.fromkeys(map(plain_address, scope.pages), Role.LINK)
        depth = 1
        while level and not self.stop.is_set():
            self.deeper = {}
            while level and not self.stop.is_set():
                level = self._take(level)
            if scope.depth is not None and depth >= scope.depth:
                self.taken.left[Out.DEEPER] += len(self.deeper.keys() - self.seen)
                return
            level, depth = self._chosen(self.deeper), depth + 1

    def _take(self, wanted: Mapping[str, Role]) -> dict[str, Role]:
        """Haul some addresses, and return what the files that arrived need."""
        self.seen.update(wanted)
        self.taken.roles.update(wanted)
        offers = [Offer(address) for address in wanted]
        # Failures are reported at the end, with the pages that want what did not come.
        with watched(self.observer, self.into, failures=False) as (told, _):
            account = haul_offers(
                offers, self.into, self.access, self.policy, command=self.command, note=self.note,
                observer=told, stop=self.stop,
                passes=self.passes,
            )  # fmt: skip
        self.taken.accounts.append(account)
        with open_receipt(self.into, account.run) as receipt:
            reasons = {row.address: row.reason for row in receipt.troubles(-1)}
        needed: dict[str, Role] = {}
        with KnownFiles(ledger_path(self.into)) as held, FileTree(self.into) as tree:
            for address, role in wanted.items():
                shown = without_secrets(address)
                arrival = held.get(address_id(address))
                here = arrival is not None and tree.stamp(arrival.lies_at) is not None
                if why := reasons.get(shown, ""):
                    by = tuple(self.wanting[address])
                    self.taken.missing.append(Missing(shown, why, by, role, here))
                if arrival is not None and here:
                    self.taken.arrivals[address] = arrival
                    needed.update(self._needed_by(tree, arrival, role))
        return needed

    def _needed_by(
        self, tree: FileTree, arrival: Arrival, role: Role
    ) -> Iterator[tuple[str, Role]]:
        """Yield what a file needs; links are queued for the next level."""
        document = open_document(tree, arrival, role)
        if document is None:
            return
        for address, reference in _references_in(document):
            wanting = self.wanting[address]
            if len(wanting) < _MAX_REFERRERS and arrival.address not in wanting:
                wanting.append(arrival.address)
            if address in self.seen:
                continue
            out = self.taken.scope.judge(address, reference)
            if out is None and self.robots is not None and not self.robots.allow(address):
                out = Out.ROBOTS
            if out is not None:
                self._leave(address, out)
            elif reference is Role.LINK:
                self.deeper.setdefault(address, reference)
            else:
                self.deeper.pop(address, None)
                self.seen.add(address)
                yield address, reference

    def _leave(self, address: str, out: Out) -> None:
        """Count a reference that is not fetched; it may still be needed elsewhere."""
        if address not in self.left:
            self.left.add(address)
            self.taken.left[out] += 1
            if out is Out.HOST:
                self.taken.hosts[host_of(address)] += 1

    def _chosen(self, links: Mapping[str, Role]) -> dict[str, Role]:
        """Return the links that the rules choose."""
        offers = [Offer(address) for address in links if address not in self.seen]
        # How many are taken counts over all levels; every other rule looks at one at a time.
        each = replace(self.choosing, first=None)
        judged = each.judge(offers, self.taken.choice, self.learn)
        chosen = [offer.address for offer, dropped_by in judged if not dropped_by]
        if self.choosing.first is not None:
            chosen = chosen[: self.choosing.first - self.followed]
        self.followed += len(chosen)
        self.taken.left[Out.RULE] += len(offers) - len(chosen)
        return dict.fromkeys(chosen, Role.LINK)


def _references_in(document: OfflineDocument) -> Iterator[tuple[str, Role]]:
    """Yield each address in a document with its purpose, once per purpose."""
    found: dict[tuple[str, Role], None] = {}

    def note(reference: str, role: Role) -> None:
        try:
            address = document.resolver.resolve(reference)
        except BadAddress:
            return
        if address is not None:
            found[plain_address(address), role] = None

    document.rewrite(note)
    yield from found
