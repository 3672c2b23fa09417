"""Walk from a document into folders and next pages, as robots.txt allows; never upwards."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Container, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TYPE_CHECKING
from urllib.parse import unquote

from willow_cart.addresses import WEB, normalise, origin_of, scheme_of
from willow_cart.checks.soft_failures import PAGE_TYPES
from willow_cart.errors import (
    NotServed,
    TooManyRedirects,
    TransferFailed,
    UnreadableSource,
    UsageError,
    WillowCartError,
)
from willow_cart.model import Issue, Metadata, Offer
from willow_cart.protocols import Access, Unchanged
from willow_cart.protocols.kept_answers import Keep
from willow_cart.redaction import without_secrets
from willow_cart.sources.listing import (
    MAX_DEPTH,
    Discovery,
    Kind,
    Listing,
    Looking,
    NotEntered,
    Why,
    folder_below,
)
from willow_cart.sources.reading import Answer, Reader
from willow_cart.structs import replace

if TYPE_CHECKING:
    from protego import Protego

_PRODUCT = "willow-cart"
"""The product token (2.2.1)."""

# RFC 9309, 2.5: so much has to be read; what is beyond it is ignored.
_MAX_ROBOTS_BYTES = 500 << 10


class Robots:
    """Reads robots.txt once per origin."""

    def __init__(self, access: Access) -> None:
        self._access = access
        self._rules: dict[str, Protego] = {}

    def allow(self, address: str) -> bool:
        """Whether a program that follows links may request an address."""
        origin = origin_of(address)
        rules = self._rules.get(origin)
        if rules is None:
            rules = self._rules[origin] = self._read(origin)
        return rules.can_fetch(address, _PRODUCT)

    def _read(self, origin: str) -> Protego:
        try:
            text = self._access.retrier.run(lambda: self._fetch(f"{origin}/robots.txt"))
        except (NotServed, TooManyRedirects):
            text = b""  # what is not there forbids nothing (2.3.1.2, 2.3.1.3)
        except TransferFailed:
            text = b"User-agent: *\nDisallow: /"  # it might forbid everything (2.3.1.4)
        from protego import Protego  # few sources are walked into

        return Protego.parse(text.decode("utf-8", "replace").removeprefix("\ufeff"))

    def _fetch(self, address: str) -> bytes:
        download = self._access.open(address)
        assert not isinstance(download, Unchanged), "no condition was made"
        text = b""
        try:
            while len(text) < _MAX_ROBOTS_BYTES and (piece := download.read()):
                text += piece
        finally:
            download.close()
        return text[:_MAX_ROBOTS_BYTES]


# A source is read no further after a hundredth as many folders as files.
_FILES_PER_FOLDER = 100

# Up to this many names, repeated three times, show a site that generates folders endlessly.
_MAX_CYCLE_NAMES = 4

_FOLDERS = (Kind.FOLDER, Kind.WEBDAV)


class Walk:
    """A walk through one source.

    Args:
        looking: how far to go.
        found: where it is noted what could not be taken.
        source: the source, as typed by the user.
        answer: gives the answer of a server that was asked already; None asks when it is its turn.
        keep: takes the beginning of an answer that is a file after all.
    """

    def __init__(
        self,
        access: Access,
        looking: Looking,
        found: Discovery,
        source: str,
        *,
        answer: Callable[[str], Answer] | None = None,
        keep: Keep | None = None,
    ) -> None:
        self._answer = answer
        self._keep = keep
        self._access = access
        self._looking = looking
        self._found = found
        self._source = source
        self._robots = Robots(access)
        self._reader = Reader(access, looking)
        self._offered: set[str] = set()
        self._seen: set[str] = set()
        self._entered = 0
        self._top = ""

    def offers_at(self, address: str) -> Iterator[Offer]:
        """Yield the offers at an address and below it; the address itself if it is a file.

        Raises:
            TransferFailed: it does not answer.
            UsageError: what it answers cannot be read.
        """
        listing = self._reader.read(
            address, self._looking.kind, self._source, self._answer, self._keep
        )
        if listing is None:
            yield Offer(address, self._source)
            return
        pool = ThreadPoolExecutor(self._looking.lanes)
        try:
            yield from self._from(listing, pool)
        except KeyboardInterrupt:
            self._access.abort()
            raise
        finally:
            # When the caller stops, the rest is not read.
            pool.shutdown(cancel_futures=True)

    def offers_in_document(self, content: bytes, media_type: str) -> Iterator[Offer]:
        """Yield the offers of a document that was saved or pasted; requests nothing.

        Args:
            media_type: what it looks like, unless the user has given it.

        Raises:
            UsageError: it cannot be read.
        """
        base = normalise(self._looking.base) if self._looking.base else ""
        facts = Metadata(base, media_type=media_type)
        listing = self._reader.understand(content, facts, self._looking.kind, self._source)
        if listing is None:
            raise UnreadableSource(
                self._source, "not a list, page, feed or sitemap", "give its type with --as"
            )
        yield from self._from(listing, None)

    def _from(self, listing: Listing, pool: ThreadPoolExecutor | None) -> Iterator[Offer]:
        """Yield the offers of a first listing, and those below it if it can be entered."""
        self._top = listing.folder
        self._seen.update((listing.address, listing.folder))
        self._offered.add(listing.address)  # pages further down link back to it
        yield from self._series(listing, pool, level=1, above=[])

    def _series(
        self, listing: Listing, pool: ThreadPoolExecutor | None, level: int, above: Sequence[object]
    ) -> Iterator[Offer]:
        """Yield a listing, then the next pages of its series."""
        for number in range(1, self._looking.pages + 1):
            brings_new = any(_is_news(offer, listing, self._offered) for offer in listing.offers)
            yield from self._one(listing, pool, level, above)
            following = listing.following
            if following is None or pool is None:
                if number == 1 < self._looking.pages and listing.kind is Kind.PAGE:
                    self._found.notes.append(
                        f"{self._source} has no link to a next page; --next SELECTOR names one"
                    )
                return
            if number > 1 and not brings_new:
                self._found.notes.append(f"page {number} of {self._source} contains nothing new")
                return
            if number == self._looking.pages:
                self._leave_out(following, Why.PAGES)
                return
            if not listing.following_body and not self._may_go(following):
                return
            try:
                read = self._reader.read_following(listing, self._source)
            except WillowCartError as error:
                self._found.troubles.append(Issue(error.thing, error.why))
                return
            if read is None:
                return
            listing = read

    def _one(
        self, listing: Listing, pool: ThreadPoolExecutor | None, level: int, above: Sequence[object]
    ) -> Iterator[Offer]:
        """Yield a listing's own offers, then those below it."""
        self._note_oddities(listing)
        if not listing.proves_absence:
            self._found.unproved.add(self._source)
        if listing.clock is not None:
            self._found.clocks.append(listing.clock)
        for offer in self._files_of(listing, pool):
            if offer.address in self._offered:
                continue
            self._offered.add(offer.address)
            yield offer if level == 1 else self._placed(offer)
        if pool is None:
            return
        goes_down = listing.kind in _FOLDERS or self._looking.depth != 1
        ways = self._ways_down(listing, level) if goes_down else []
        if not listing.parts and not ways:
            return
        marks = [*above, listing.mark]
        yield from self._below(listing.parts, pool, level, marks, listing.kind)
        # On the web a folder's address may return anything; elsewhere it is a folder.
        kind = None if scheme_of(listing.address) in WEB else Kind.FOLDER
        if listing.kind is Kind.WEBDAV:
            kind = Kind.WEBDAV
        yield from self._below(ways, pool, level + 1, marks, kind)

    def _files_of(self, listing: Listing, pool: ThreadPoolExecutor | None) -> Iterator[Offer]:
        """Yield the offers of a listing; those that turn out to be folders are entered."""
        if pool is None or not listing.unsure:
            yield from listing.offers
            return
        ahead: deque[tuple[Offer, Future[bool] | None]] = deque()
        offers = iter(listing.offers)
        while True:
            while len(ahead) < self._looking.lanes and (offer := next(offers, None)) is not None:
                is_unsure = offer.address in listing.unsure
                asked = pool.submit(self._is_folder, offer.address) if is_unsure else None
                ahead.append((offer, asked))
            if not ahead:
                return
            offer, asked = ahead.popleft()
            if asked is not None and asked.result():
                listing.below.append(f"{offer.address}/")
            else:
                yield offer

    def _is_folder(self, address: str) -> bool:
        """Whether an entry of a listing is a folder: a redirect adds its slash, or it has an index.

        What does not answer is taken for a file, which will fail by its name.
        """
        try:
            facts = self._access.retrier.run(lambda: self._access.ask(address))
            if facts.address == f"{address}/":
                return True
            if facts.media_type not in PAGE_TYPES or facts.attachment:
                return False
            listing = self._reader.read(address, None, self._source)
        except (TransferFailed, UsageError):
            return False
        return listing is not None and listing.kind is Kind.FOLDER

    def _placed(self, offer: Offer) -> Offer:
        """Return an offer from a subfolder with its folder relative to the source."""
        folder = folder_below(self._top, offer.address)
        return offer if folder == offer.folder else replace(offer, folder=folder)

    def _ways_down(self, listing: Listing, level: int) -> list[str]:
        """Return the subfolders to enter; record the others."""
        depth = self._looking.depth
        ways = []
        for address in listing.below:
            if not address.startswith(self._top) or address in self._seen:
                continue
            if depth is not None and level >= depth:
                # Links to pages are not reported.
                if listing.kind in _FOLDERS:
                    self._leave_out(address, Why.DEPTH)
            elif level >= MAX_DEPTH:
                self._leave_out(address, Why.DEEP)
            elif _repeats_itself(address):
                self._leave_out(address, Why.LOOP)
            else:
                ways.append(address)
        return ways

    def _below(
        self,
        addresses: Sequence[str],
        pool: ThreadPoolExecutor,
        level: int,
        above: Sequence[object],
        kind: Kind | None,
    ) -> Iterator[Offer]:
        """Read subfolders a few ahead, and yield their offers in order."""
        ahead: deque[tuple[str, Future[Listing | None]]] = deque()
        waiting = iter(addresses)
        while True:
            while len(ahead) < self._looking.lanes and (way := next(waiting, None)) is not None:
                if self._may_go(way):
                    ahead.append((way, pool.submit(self._read, way, kind)))
            if not ahead:
                return
            address, reading = ahead.popleft()
            try:
                listing = reading.result()
            except (TransferFailed, UsageError) as error:
                self._found.troubles.append(Issue(error.thing, error.why))
                continue
            if listing is not None and self._is_new(address, listing, above):
                yield from self._series(listing, pool, level, above)

    def _read(self, address: str, kind: Kind | None) -> Listing | None:
        return self._reader.read(address, kind, self._source)

    def _may_go(self, address: str) -> bool:
        """Whether an address may be requested: not twice, and not against robots.txt."""
        if address in self._seen:
            return False
        if self._entered > self._looking.most_listed // _FILES_PER_FOLDER:
            self._leave_out(address, Why.MANY)
            return False
        self._entered += 1
        self._seen.add(address)
        if self._looking.ignore_robots or scheme_of(address) not in WEB:
            return True
        if self._robots.allow(address):
            return True
        self._leave_out(address, Why.ROBOTS)
        return False

    def _is_new(self, address: str, listing: Listing, above: Sequence[object]) -> bool:
        """Whether a listing differs from all those above it.

        A folder that holds a link to itself says the same again at every level.
        """
        moved = listing.address != address
        if moved and (listing.address in self._seen or not listing.address.startswith(self._top)):
            self._leave_out(address, Why.LOOP)
            return False
        self._seen.add(listing.address)
        again = above.count(listing.mark)
        # Without files to compare, one level like another may be chance.
        if again > (0 if listing.offers else 1):
            self._leave_out(address, Why.LOOP)
            return False
        return True

    def _leave_out(self, address: str, why: Why) -> None:
        shown = without_secrets(address)
        path = shown.removeprefix(self._top) if why is not Why.PAGES else shown
        self._found.not_entered.append(NotEntered(shown, unquote(path), why, self._source))

    def _note_oddities(self, listing: Listing) -> None:
        place = without_secrets(listing.address) or self._source
        self._found.troubles += [Issue(place, each) for each in listing.problems]
        for part, addresses in listing.unlisted.items():
            self._found.unlisted[part] += len(addresses)
        if listing.relative:
            self._found.troubles.append(
                Issue(
                    place,
                    f"{listing.relative:,} of its links are relative, and their base is unknown;"
                    " give the page's address with --base",
                )
            )
        if listing.odd:
            more = f" and {len(listing.odd) - 1:,} more" if len(listing.odd) > 1 else ""
            self._found.notes.append(f"{place}: left out {without_secrets(listing.odd[0])}{more}")


def _repeats_itself(address: str) -> bool:
    """Whether the path of a folder ends in the same names three times in a row."""
    names = address.rstrip("/").split("/")[3:]
    return any(
        names[-length:] == names[-2 * length : -length] == names[-3 * length : -2 * length]
        for length in range(1, min(_MAX_CYCLE_NAMES, len(names) // 3) + 1)
    )


def _is_news(offer: Offer, listing: Listing, offered: Container[str]) -> bool:
    """Whether an offer is new, and not a link between the pages of the series."""
    itself = offer.address.partition("?")[0] == listing.address.partition("?")[0]
    return not itself and offer.address != listing.following and offer.address not in offered
