"""List sources of any kind: what each source is, and what it offers."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Generator, Iterable, Iterator
from contextlib import suppress
from functools import partial
from itertools import chain, count
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO
from urllib.parse import quote

from willow_cart.addresses import (
    WEB,
    expand_ranges,
    looks_like_address,
    name_of,
    normalise,
    origin_of,
    scheme_of,
    take_inside,
)
from willow_cart.cart.forms import lines_of, reader_for
from willow_cart.checks.soft_failures import INSPECTED_BYTES, looks_like_page
from willow_cart.errors import (
    BadOption,
    InternalError,
    NothingChosen,
    TransferFailed,
    UnreadableSource,
    UsageError,
    VerificationError,
    WillowCartError,
)
from willow_cart.formats.checksums import is_checksum_line, read_checksum_list
from willow_cart.kinds import ZIP, extension_of, kind_of
from willow_cart.model import Issue, Offer
from willow_cart.protocols import Access, ObjectStore
from willow_cart.protocols.base import fetch_whole
from willow_cart.protocols.inside import Inside
from willow_cart.protocols.local import address_of
from willow_cart.protocols.web import WebAccess
from willow_cart.redaction import without_secrets
from willow_cart.sources.asking import AskAhead
from willow_cart.sources.directories import has_web_wildcard, has_wildcard, matching_offers
from willow_cart.sources.listing import (
    Discovery,
    Kind,
    Looking,
    fixed_folder,
    folders_from,
    is_folder_address,
    looks_like_xml,
    may_be_listing,
    placed_below,
)
from willow_cart.sources.reading import MAX_LIST_BYTES, Answer, fetch_answer, open_file
from willow_cart.sources.stores import offers_in_store
from willow_cart.sources.walk import Walk
from willow_cart.structs import Value, replace
from willow_cart.units import count_of

if TYPE_CHECKING:
    from willow_cart.protocols.kept_answers import Keep
    from willow_cart.sources.asking import Progress

# Bytes that are not UTF-8, as they are left in a text.
_NOT_UTF8 = re.compile("[\udc80-\udcff]")


def read_list(lines: Iterable[str], place: str) -> Iterator[Offer | Issue]:
    """Read a list of addresses line by line.

    One address, or one with ranges, a line; a `#` at the beginning of a line or after a space
    starts a comment, so that a fragment is not one.

    Yields:
        The offers in each line, or what is wrong with the line.
    """
    number = 0
    for line_number, raw in enumerate(lines, 1):
        if not raw.isascii() and _NOT_UTF8.search(raw):
            yield Issue(f"{place}, line {line_number}", "is not UTF-8; save it as UTF-8")
            continue
        line = uncommented(raw)
        if not line:
            continue
        try:
            for offer in offers_from(line, place, number):
                number = offer.number
                yield offer
        except UsageError as error:
            yield Issue(f"{place}, line {line_number}", str(error))


def uncommented(line: str) -> str:
    """Return a line of a list without its comment."""
    return re.sub(r"(?:^|\s)#.*", "", line).strip()


def offers_from(text: str, place: str, after: int = 0) -> Iterator[Offer]:
    """Yield the offers of an address, several if it contains ranges.

    Args:
        text: the address as it was written.
        place: the source it was written in.
        after: the number of the offer before.

    Raises:
        BadAddress: it is invalid.
    """
    for number, address in enumerate(expand_ranges(text), after + 1):
        yield Offer(address=normalise(address), source=place, number=number)


def offers_promised(lines: Iterable[str], place: str, base: str) -> Iterator[Offer | Issue]:
    """Yield the files that a checksum list names, with their expected checksums.

    Args:
        lines: of the list.
        place: where the list is; the files are next to it.
        base: where the files are, where the list is elsewhere.

    Raises:
        UnreadableSource: the location of the files is unknown.
    """
    beside = base or (place if looks_like_address(place) else "")
    if not beside:
        raise UnreadableSource(
            place,
            "is a checksum list and does not contain the addresses of its files",
            "give the address of their folder with --base, or a list for --checksums",
        )
    folder = normalise(beside).rpartition("/")[0]
    number = 0
    for item in read_checksum_list("".join(lines), place):
        if isinstance(item, Issue):
            yield item
            continue
        number += 1
        # A way up would lead out of what the list is a list of.
        parts = [part for part in item.parts if part != ".."]
        path = "/".join(quote(part, safe="~") for part in parts)
        yield Offer(
            normalise(f"{folder}/{path}"),
            place,
            number,
            folder="/".join(parts[:-1]),
            checksums=(item.checksum,),
        )


def offers_in_archive(access: Access, archive: str, source: str) -> Iterator[Offer]:
    """Yield the files in a zip archive; only its directory is fetched.

    Args:
        access: how the archive is talked to.
        archive: its address.
        source: as typed by the user.

    Raises:
        TransferFailed: it does not arrive, is not an archive, or its server does not serve parts.
    """
    for number, entry in enumerate(Inside(access).entries(archive), 1):
        folder = take_inside(entry.address)[1].rpartition("/")[0]
        yield Offer(
            entry.address, source, number, folder=folder, size=entry.size, modified=entry.modified
        )


STANDARD_INPUT = "-"

_LISTED_KINDS = frozenset(Kind) - {Kind.FILE, Kind.LIST, Kind.ARCHIVE}

# A list of addresses may be called so as well.
_TABLES = frozenset({"csv", "tsv"})

_NUMBER = re.compile(r"\d+")

# Whatever begins so is neither a list nor a table.
_MARKUP = re.compile(rb"(?:\xef\xbb\xbf)?\s*<[a-z!]", re.IGNORECASE)


def shown_as(source: str) -> str:
    """Return a source as offers name it."""
    if source == STANDARD_INPUT:
        return "standard input"
    if not looks_like_address(source) and Path(source).is_dir():
        return address_of(source)
    return without_secrets(source)


class Asking(Value):
    """How responses to probes are used.

    Attributes:
        is_known: whether an address is known to be a file's, from an earlier haul.
        keep: takes an answer that is a file; None throws it away.
        progress: called now and then with which answers are waited for.
    """

    is_known: Callable[[str], bool] = lambda address: False  # noqa: ARG005
    keep: Keep | None = None
    progress: Progress = lambda answered, waiting: None  # noqa: ARG005


class SourceGuide:
    """Finds out what each source is, and lists it."""

    def __init__(
        self,
        found: Discovery,
        access: Access,
        looking: Looking,
        standard_input: BinaryIO | None,
        asking: Asking,
    ) -> None:
        self._asking = asking
        self._ahead: AskAhead[Answer] | None = None
        self._found = found
        self._access = access
        self._looking = self._given = looking
        self._standard_input = standard_input
        self._walk: Walk | None = None
        self._is_cart = False
        self._is_remote = False

    def ask_ahead(self, sources: Iterable[str]) -> None:
        """Probe sources in parallel, ahead of their turn."""
        looking = self._looking
        if looking.kind not in (None, Kind.PAGE):
            return
        first = next(addresses := self._to_ask(sources), None)
        if first is None:
            return
        self._ahead = AskAhead(
            chain([first], addresses),
            lambda address: fetch_answer(
                self._access, address, looking.kind, looking.largest_listing, self._asking.keep
            ),
            looking.lanes,
            self._asking.progress,
        )

    def _to_ask(self, sources: Iterable[str]) -> Iterator[str]:
        """Yield the addresses to be probed.

        Of a series only the first is asked, which says what all are.
        """
        for source in sources:
            if looks_like_address(source):
                with suppress(UsageError):  # it is reported when its turn comes
                    address = normalise(next(expand_ranges(source)))
                    if has_web_wildcard(address):
                        continue  # its folder is asked
                    if not (self._is_file(address) or self._is_listed(address)):
                        yield address

    def close(self) -> None:
        """Stop probing."""
        if self._ahead is not None:
            self._ahead.close()

    @property
    def most_listed(self) -> int:
        """Return the maximum number of files per source."""
        return self._looking.most_listed

    def too_many(self, source: str) -> Issue:
        """Return the message for a source with more files."""
        return Issue(
            shown_as(source),
            f"lists more than {count_of(self.most_listed, 'file')}; the rest was not read"
            " (--most-listed allows more)",
        )

    def nothing_in(self, source: str) -> NothingChosen:
        """Return the error for a source that offers nothing."""
        within = self._looking.within
        shown = shown_as(source)
        if not looks_like_address(source) and not Path(source).is_dir():
            what, advice = "no row of it is taken", "write yes in the column take, or pick --back"
            if not self._is_cart:
                what, advice = "contains no addresses", "write one on each line"
            return NothingChosen(shown, what, advice, offered=0, rule=None)
        if within:
            rule = f"--within {within}"
            why = f"matches nothing with links on {shown}"
            return NothingChosen(rule, why, "check the selector", offered=0, rule=rule)
        advice = "check the address"
        if looks_like_address(source) and scheme_of(normalise(source)) in WEB:
            advice += "; --parts images,media also lists what a page shows"
        return NothingChosen(shown, "offers no files", advice, offered=0, rule=None)

    def go_through(self, source: str) -> Iterator[Offer | Issue]:
        """Yield each offer of a source, numbered, and each issue with it.

        What a server sends may not name files of this machine, and no store that the user's own
        credentials open.
        """
        is_local = not looks_like_address(source) or source.lower().lstrip().startswith("file:")
        self._is_remote = not is_local
        for item in self._go_through(source):
            if isinstance(item, Issue):
                yield item
                continue
            addresses = (item.address, *item.mirrors)
            if self._is_remote and any(scheme_of(each) == "file" for each in addresses):
                yield Issue(item.address, "servers may not refer to local files; ignored")
                continue
            if not self._is_remote:
                for each in addresses:
                    self._access.trust(each)
            yield item

    def _go_through(self, source: str) -> Iterator[Offer | Issue]:
        self._walk = None
        self._is_cart = False
        self._looking = self._given
        if looks_like_address(source):
            if self._looking.kind is Kind.LIST:
                _, content = self._access.retrier.run(
                    lambda: fetch_whole(normalise(source), self._access)
                )
                yield from self._in_file(lambda: io.BytesIO(content), without_secrets(source))
            else:
                yield from _numbered(self._at_addresses(source))
            return
        if Path(source).is_dir():
            yield from _numbered(self._at_addresses(address_of(source)))
            return
        if source == STANDARD_INPUT:
            if self._standard_input is None:
                raise UnreadableSource("-", "no standard input", "name a file")
            content = self._standard_input.read(MAX_LIST_BYTES)
            yield from self._in_file(lambda: io.BytesIO(content), shown_as(source))
        else:
            yield from self._in_file(lambda: open_file(source), source)

    def _require_cart(self, source: str) -> None:
        """Refuse --left-out for a source that has no marks.

        Raises:
            BadOption: it is given.
        """
        if self._looking.left_out:
            raise BadOption(
                "--left-out", f"only for carts, not for {shown_as(source)}", "name a cart"
            )

    def _in_file(self, opened: Callable[[], BinaryIO], place: str) -> Iterator[Offer | Issue]:
        """Yield the offers in a file or on standard input."""
        kind = self._looking.kind
        if kind is Kind.FILE:
            raise BadOption("--as file", f"not for {place}", "give the file's address")
        left_out = self._looking.left_out
        if kind in (None, Kind.LIST) and (read := reader_for(opened, place, left_out=left_out)):
            self._is_cart = True
            yield from read(opened, place, self._found.notes)
            return
        self._require_cart(place)
        with opened() as file:
            beginning = file.read(INSPECTED_BYTES)
        is_archive = beginning.startswith(ZIP) and Path(place).is_file()
        if kind is Kind.ARCHIVE or (kind is None and is_archive):
            yield from self._in_archive(place)
            return
        if kind in _LISTED_KINDS and _holds_addresses(beginning):
            yield from _numbered(self._at_each(lines_of(opened, place)))
            return
        media_type = _media_type_of(beginning, self._looking)
        if kind is Kind.LIST or (kind is None and not media_type):
            yield from self._in_list(opened, place)
            return
        with opened() as file:
            content = file.read(MAX_LIST_BYTES)
        yield from _numbered(self._walk_of(place).offers_in_document(content, media_type))

    def _at_each(self, lines: Iterable[str]) -> Iterator[Offer | Issue]:
        """Yield the offers at each address of a list, whose lines are pages, folders or buckets."""
        for line in lines:
            if address := uncommented(line):
                try:
                    self._walk = None
                    if not self._is_remote:
                        self._access.trust(normalise(next(expand_ranges(address))))
                    yield from self._at_addresses(address)
                except (UsageError, TransferFailed) as error:
                    yield Issue(error.thing, error.why)

    def _in_archive(self, place: str) -> Iterator[Offer]:
        """Yield the files in a local archive."""
        if not Path(place).is_file():
            raise BadOption("--as archive", f"not for {place}", "name the archive")
        yield from offers_in_archive(self._access, address_of(place), place)

    def _at_addresses(self, source: str) -> Iterator[Offer | Issue]:
        """Yield the offers at an address, or at each of several if it contains ranges."""
        self._require_cart(source)
        shown = without_secrets(source)
        failures: list[WillowCartError] = []
        read = 0
        plain: set[str] = set()
        base = self._base_of(source)
        if base:
            # Servers list keys by their text after the address, where paths do not begin.
            self._looking = replace(self._looking, beginning="", after="")
        for written in expand_ranges(source):
            address = normalise(written)
            above = folders_from(base, address)
            # Those of a series that are named alike are alike.
            shape = _NUMBER.sub("0", address.partition("?")[0])
            some = False
            try:
                if shape in plain or self._is_file(address):
                    yield Offer(address, shown, folder=above)
                else:
                    for offer in self._offers_at(address, shown):
                        some = True
                        yield placed_below(above, offer, address)
                        if offer.address == address and kind_of(name_of(address)) == "other":
                            # It was asked, and is a file; so are those that are named as it is.
                            plain.add(shape)
            except (UsageError, TransferFailed) as error:
                failures.append(error)
                read += some
            else:
                read += 1
        if failures and not read:
            raise failures[0]
        yield from (Issue(failure.thing, failure.why) for failure in failures)

    def _base_of(self, source: str) -> str:
        """Return the folder from which the paths of a source count; empty for its own.

        They count from its own folder, or where its ranges begin; if the user wants to keep the
        folders of addresses, from the top of the server.
        """
        if self._looking.keep_folders:
            return f"{origin_of(normalise(next(expand_ranges(source))))}/"
        return fixed_folder(source)

    def _is_file(self, address: str) -> bool:
        """Whether an address is known to be a file without probing."""
        kind = self._looking.kind
        if kind is not None:
            return kind is Kind.FILE
        if has_web_wildcard(address):
            return False
        # Where folders are listed, a list also says how large a single file is.
        if self._is_listed(address):
            return False
        return not may_be_listing(address) or self._asking.is_known(address)

    def _is_listed(self, address: str) -> bool:
        """Whether the server of an address lists what it has by its own protocol."""
        return self._access.lister(address) is not None

    def _store_at(self, address: str) -> ObjectStore | None:
        """Return the lister of objects if an address is in a store."""
        lister = self._access.lister(address)
        store = lister if isinstance(lister, ObjectStore) else None
        if store is None and self._looking.kind is Kind.BUCKET:
            from willow_cart.protocols.container import Container

            return Container(self._access)
        return store

    def _offers_at(self, address: str, source: str) -> Iterator[Offer]:
        """Yield the offers at an address that must be probed."""
        store = self._store_at(address)
        if store is None and has_web_wildcard(address):
            return matching_offers(address, partial(self._offers_below, source))
        if self._looking.kind is Kind.ARCHIVE:
            return offers_in_archive(self._access, address, source)
        if store is None:
            return self._walk_of(source).offers_at(address)
        return offers_in_store(store, address, self._looking, self._found, source)

    def _offers_below(self, source: str, folder: str, levels: int) -> Iterator[Offer]:
        """Yield the offers of a page and of folders below it, at least to a number of levels."""
        depth = self._looking.depth
        deep = None if depth is None else max(depth, levels)
        return self._new_walk(source, replace(self._looking, depth=deep)).offers_at(folder)

    def _walk_of(self, source: str) -> Walk:
        """Return the walk through the current source."""
        if self._walk is None:
            self._walk = self._new_walk(source, self._looking)
        return self._walk

    def _new_walk(self, source: str, looking: Looking) -> Walk:
        answer = None if self._ahead is None else self._ahead.take
        return Walk(
            self._access,
            looking,
            self._found,
            source,
            answer=answer,
            keep=self._asking.keep,
        )

    def _in_list(self, opened: Callable[[], BinaryIO], place: str) -> Iterator[Offer | Issue]:
        """Yield the offers of a list; a folder in it stands for its files."""
        lines = lines_of(opened, place)
        first = next((line for line in lines if line.strip()), "")
        lines = lines_of(opened, place)
        if extension_of(place) in _TABLES and "://" not in first:
            raise UnreadableSource(
                place, "has no column named url", "name the column of addresses url"
            )
        if is_checksum_line(first):
            yield from _numbered(offers_promised(lines, place, self._looking.base))
        else:
            yield from _numbered(self._with_folders(read_list(lines, place), place))

    def _with_folders(self, items: Iterator[Offer | Issue], place: str) -> Iterator[Offer | Issue]:
        for item in items:
            if isinstance(item, Issue) or not self._stands_for_several(item.address):
                yield item
                continue
            try:
                yield from self._offers_at(item.address, place)
            except (UsageError, TransferFailed) as error:
                yield Issue(error.thing, error.why)

    def _stands_for_several(self, address: str) -> bool:
        """Whether an address in a list is a folder, or contains wildcards."""
        if self._looking.kind is Kind.FILE:
            return False
        several = is_folder_address(address) or has_wildcard(address)
        return several or has_web_wildcard(address)


def _numbered(items: Iterable[Offer | Issue]) -> Iterator[Offer | Issue]:
    """Yield offers numbered from 1."""
    numbers = count(1)
    for item in items:
        if isinstance(item, Issue) or item.number == (number := next(numbers)):
            yield item
        else:
            yield replace(item, number=number)


def _holds_addresses(beginning: bytes) -> bool:
    """Whether the first line that is not empty is an address."""
    lines = beginning.decode("utf-8", "replace").splitlines()
    first = next(filter(None, map(uncommented, lines)), "")
    return looks_like_address(first) and not first.startswith("<")


def _media_type_of(content: bytes, looking: Looking) -> str:
    """Return the media type of a file or of standard input; empty for a list or a table."""
    beginning = content[:INSPECTED_BYTES]
    if looks_like_xml(beginning):
        return "application/xml"
    if looks_like_page(beginning) or _MARKUP.match(beginning):
        return "text/html"
    # Who names a page's address means a page, but a checksum list has files at an address too.
    first = beginning.lstrip().partition(b"\n")[0].decode("utf-8", "replace")
    return "text/html" if looking.base and not is_checksum_line(first) else ""


def discover(
    sources: Iterable[str],
    access: Access | None = None,
    looking: Looking | None = None,
    standard_input: BinaryIO | None = None,
) -> Discovery:
    """List sources: addresses of files, pages, folders, feeds and sitemaps; lists and tables.

    What cannot be read is a trouble, and the rest goes on.

    Args:
        sources: as typed by the user: addresses, paths, `-` for standard input.
        access: client for all protocols; None for the web without sign-in.
        looking: how they are looked at; None as `Looking()`.
        standard_input: the stream for `-`.

    Raises:
        WillowCartError: none of the sources can be read; the error is that of the first.
    """
    found = Discovery()
    if access is None:
        with WebAccess() as web:
            found.offers += discover_each(sources, found, web, looking, standard_input)
    else:
        found.offers += discover_each(sources, found, access, looking, standard_input)
    return found


def discover_each(
    sources: Iterable[str],
    found: Discovery,
    access: Access,
    looking: Looking | None = None,
    standard_input: BinaryIO | None = None,
    *,
    asking: Asking | None = None,
) -> Generator[Offer, None, None]:
    """Yield the offers of sources one by one without keeping them; see `discover`.

    Args:
        sources: as typed by the user.
        found: filled with everything but the offers as they are gone through.
        looking: how they are looked at; None as `Looking()`.
        standard_input: the stream for `-`.
        asking: how to use responses that are files; None discards them.
    """
    sources = list(sources)
    guide = SourceGuide(found, access, looking or Looking(), standard_input, asking or Asking())
    guide.ask_ahead(sources)
    try:
        yield from _go_through(sources, found, guide)
    except KeyboardInterrupt:
        access.abort()
        raise
    finally:
        guide.close()


def _go_through(sources: Iterable[str], found: Discovery, guide: SourceGuide) -> Iterator[Offer]:
    """Yield every offer of the sources."""
    failures: list[WillowCartError] = []
    for source in sources:
        count, troubles = 0, len(found.troubles)
        try:
            for offer in _readable(guide, source, found):
                count += 1
                yield offer
            found.sources.append(shown_as(source))
            if not count and len(found.troubles) == troubles:
                found.empty.append(guide.nothing_in(source))
        except NothingChosen as error:
            found.sources.append(shown_as(source))
            found.empty.append(error)
        except GeneratorExit:
            found.sources.append(shown_as(source))  # enough of it was seen
            raise
        except Exception as error:
            failure = _failure_of(source, error)
            if count:
                # What was listed until then is kept.
                found.sources.append(shown_as(source))
                found.troubles.append(Issue(failure.thing, failure.why))
            else:
                failures.append(failure)
    if failures and not found.sources:
        raise failures[0]
    found.troubles += [Issue(failure.thing, failure.why) for failure in failures]


def _readable(guide: SourceGuide, source: str, found: Discovery) -> Iterator[Offer]:
    """Yield the offers of a source, up to the limit; record what cannot be read."""
    count = 0
    for item in guide.go_through(source):
        if isinstance(item, Issue):
            found.troubles.append(item)
        elif count == guide.most_listed:
            found.troubles.append(guide.too_many(source))
            return
        else:
            count += 1
            yield item


def _failure_of(source: str, error: Exception) -> WillowCartError:
    """Return the failure of one source; errors that end the command are raised again."""
    if isinstance(error, UsageError | TransferFailed | VerificationError):
        return error
    if isinstance(error, WillowCartError):
        raise error
    return InternalError.of(shown_as(source), error)  # one odd source must not end the others
