"""List the sources of an errand, and find files that are no longer offered."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager

from willow_cart.commands.connecting import make_access, read_bounds
from willow_cart.commands.finding import OfferFinder
from willow_cart.errands.errand_events import SourceOffers
from willow_cart.errands.job import Document, Job, Source
from willow_cart.errors import NothingChosen, WillowCartError
from willow_cart.identity import AddressId
from willow_cart.model import Offer
from willow_cart.observer import Observer
from willow_cart.offer_store import OfferStore
from willow_cart.protocols import Access
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.sign_in_file import sign_ins_in
from willow_cart.sources.discover import Asking
from willow_cart.sources.listing import Discovery
from willow_cart.structs import Record, field, replace


class Found(Record):
    """The offers of an errand's sources.

    Attributes:
        shelf: the chosen offers.
        seen: how many files the sources offered, before choosing.
        troubles: how many lines or sources could not be taken.
        offered: the identifiers of the addresses that each source has offered up to now and still
            does, by its mark; others are not among them.
        gone: those of what was offered once and is not any more, with the fingerprint of the
            source.
        clocks: by how many seconds the clocks of the sources' servers are ahead of this machine's;
            None for a source of which that is unknown.
    """

    store: OfferStore = field(default_factory=OfferStore)
    seen: int = 0
    troubles: int = 0
    offered: dict[str, dict[AddressId, None]] = field(default_factory=dict)
    gone: dict[AddressId, str] = field(default_factory=dict)
    clocks: list[float | None] = field(default_factory=list)


@contextmanager
def open_access(document: Document, job: Job, observer: Observer) -> Iterator[Access]:
    """Yield the access to the servers of an errand.

    It has the errand's own sign-ins and those of its sources.
    """
    kept = sign_ins_in(str(document.path), document.sign_in.keys)
    several = [job.haul, *(source.request for source in job.sources)]
    pace = job.haul.pace
    bounds = read_bounds(job.haul.unpacking.unpacked_at_most)
    connections = pace.most_host_lanes
    with make_access(several, connections, observer, pace, bounds=bounds, kept=kept) as access:
        yield access


def discover_offers(
    job: Job,
    access: Access,
    before: Mapping[str, list[AddressId]],
    observer: Observer,
    asking: Asking | None = None,
) -> Found:
    """Return what the sources offer after their rules.

    Args:
        job: the errand.
        before: what the sources have offered up to the last good run, by their marks.
        asking: how to use responses that are files; None discards them.

    Raises:
        NothingChosen: nothing is left of any of them.
        WillowCartError: none of them can be read.
    """
    found = Found()
    failures: list[WillowCartError] = []
    counts: Counter[str] = Counter()
    for source in job.sources:
        known = frozenset(before.get(source.mark, ()))
        finder = OfferFinder(
            source.request, access, job.haul.pace.lanes, observer, asking=asking,
            offered_before=known if source.since_last_run else None,
        )  # fmt: skip
        already = len(found.store)
        try:
            _go_through(source, finder, before.get(source.mark, ()), found)
            finder.require_some()
        except NothingChosen as error:
            is_old = source.since_last_run and (error.rule or "").startswith("--since ")
            failures.append(_nothing_new(source, error) if is_old else error)
            continue
        except WillowCartError as error:
            failures.append(error)
            continue
        counts[source.name or ", ".join(finder.found.sources)] += len(found.store) - already
    for shown, files in counts.items():
        if files:
            observer.note(SourceOffers(shown, files))
    if len(failures) == len(job.sources):
        raise failures[0]
    for failure in failures:
        observer.note(failure)
        found.troubles += not isinstance(failure, NothingChosen)
    # Another source may offer what this one does no more.
    for offered in found.offered.values():
        for each in offered:
            found.gone.pop(each, None)
    return found


def _nothing_new(source: Source, error: NothingChosen) -> NothingChosen:
    """Return the error for a source of which nothing is newer than the last run."""
    place = source.name or ", ".join(map(without_secrets, source.request.sources))
    (since,) = source.request.given["since"]
    reason = f'nothing was modified since the last run ({since}; since = "last run")'
    return NothingChosen(place, reason, "", offered=error.offered, rule=error.rule)


def _go_through(
    source: Source, finder: OfferFinder, before: Iterable[AddressId], found: Found
) -> None:
    """Store the offers of a source, and find files that it no longer offers.

    Raises:
        WillowCartError: it cannot be read.
    """
    missing = dict.fromkeys(before)
    offered: dict[AddressId, None] = {}
    for offer, dropped_by in finder.judged():
        was_offered = offer.id in missing
        missing.pop(offer.id, None)
        if was_offered or not dropped_by:
            offered[offer.id] = None
        if not dropped_by:
            found.store.add(replace(offer, source=source.name or offer.source))
    for each in missing:
        if _would_be_offered(each, finder.found):
            found.gone[each] = source.mark
        else:
            offered[each] = None  # it could not be listed
    found.clocks += finder.found.clocks or [None]
    found.seen += finder.choice.offered
    found.troubles += len(finder.found.troubles)
    found.offered[source.mark] = offered


def _would_be_offered(identifier: AddressId, look: Discovery) -> bool:
    # An identifier has the scheme, host and path of its address.
    return all(look.covers(Offer(identifier, source)) for source in look.sources)
