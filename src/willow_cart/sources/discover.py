"""List sources of any kind."""

from __future__ import annotations

from collections.abc import Generator, Iterable, Iterator
from typing import BinaryIO

from willow_cart.errors import (
    InternalError,
    NothingChosen,
    TransferFailed,
    UsageError,
    VerificationError,
    WillowCartError,
)
from willow_cart.model import Issue, Offer
from willow_cart.protocols import Access
from willow_cart.protocols.web import WebAccess
from willow_cart.sources.discovery import Discovery, Looking
from willow_cart.sources.source_guide import Asking, SourceGuide, shown_as


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
        access: how places are talked to; None talks to the web without any sign-in.
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
                # What was listed until then stands.
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
