"""Test what works at a server and what does not."""

from __future__ import annotations

import ssl
import time
from collections.abc import Callable, Generator, Iterator
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from itertools import islice
from urllib.parse import urlsplit

from willow_cart.errors import NotServed, SignInFailed, WillowCartError
from willow_cart.knocking import reach
from willow_cart.model import Metadata, Offer
from willow_cart.protocols import Access, Download, Unchanged
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.redaction import without_secrets
from willow_cart.schemes import SCHEMES, Secured
from willow_cart.sources.discover import discover_each
from willow_cart.sources.listing import Discovery, Looking
from willow_cart.structs import Value
from willow_cart.units import count_of, format_duration, format_size

_TIMEOUT_SECONDS = 10.0
_MOST_NAMED, _MOST_LISTED = 3, 1000

# Replies of servers to users whom they do not authorise: HTTP and FTP (RFC 959, 5.4).
_NOT_LET_IN = frozenset({401, 403, 530})

# Clocks that differ by more have signatures refused, and dates chosen wrongly.
_CLOCK_MAY_DIFFER = timedelta(minutes=5)
# A certificate that ends within this is worth a word.
_ENDS_SOON = timedelta(days=14)


class Verdict(StrEnum):
    """The result of a step."""

    FINE = "ok"
    UNSURE = "unclear"
    """It works, but something about it may matter."""
    FAILED = "failed"


class KnockFinding(Value):
    """The finding of one step.

    Attributes:
        tried: the step.
        verdict: how it went.
        found: the finding, or the problem.
        remedy: what to do about it; empty where there is nothing to do.
    """

    tried: str
    verdict: Verdict
    found: str
    remedy: str = ""


class Knocker(Value):
    """Tests servers.

    Attributes:
        context: for TLS; None trusts whom the system trusts.
        signed: whether a sign-in was given.
        looking: how the server is listed; None as usual.
        now: the wall clock, with time zone.
        clock: a monotonic clock in seconds.
    """

    access: Access
    context: ssl.SSLContext | None = None
    signed: bool = False
    looking: Looking | None = None
    now: Callable[[], datetime] = lambda: datetime.now(UTC)
    clock: Callable[[], float] = time.monotonic

    def knock(self, address: str) -> Iterator[KnockFinding]:
        """Yield the findings step by step; stop where later steps cannot work.

        Args:
            address: in normal form.
        """
        if not (yield from self._reach(self.access.contact(address))):
            return
        found = Discovery()
        began = self.clock()
        offers: list[Offer] = []
        try:
            offers += islice(
                discover_each([address], found, self.access, self.looking), _MOST_LISTED
            )
        except WillowCartError as error:
            yield _failure("listing", error)
        else:
            yield self._listing(offers, found, self.clock() - began)
        if found.not_entered and not offers:
            yield KnockFinding("fetching", Verdict.UNSURE, "not tested; only folders are there")
            return
        # A page's first link may lead anywhere; what has the name of a file is more like one.
        files = [offer for offer in offers if offer.kind not in ("page", "other")]
        target = next(iter(files or offers), Offer(address))
        try:
            yield from self._fetch(target)
        except WillowCartError as error:
            yield _failure("fetching", error)
        else:
            said = "accepted" if self.signed else "not required"
            yield KnockFinding("sign-in", Verdict.FINE, said)

    def _reach(self, contact: str) -> Generator[KnockFinding, None, bool]:
        """Yield the findings on name, port and TLS; return whether the server answers."""
        parts = urlsplit(contact)
        protocol = SCHEMES[parts.scheme]
        if protocol.port is None:
            return True  # this machine
        host, port = parts.hostname or "", parts.port or protocol.port
        tried = "name"
        try:
            named = reach.resolve(host, port, self.clock)
            families = sorted({"IPv6" if ":" in each else "IPv4" for each in named.addresses})
            said = f"{', '.join(named.addresses)} ({' and '.join(families)})"
            yield KnockFinding(tried, Verdict.FINE, said)
            tried = "port"
            reached = reach.connect(host, port, _TIMEOUT_SECONDS, self.clock)
            after = _milliseconds(reached.seconds)
            said = f"port {port} at {reached.addresses[0]}, answer after {after}"
            yield KnockFinding(tried, Verdict.FINE, said)
            if protocol.secured is Secured.ALWAYS or (
                protocol.secured is Secured.ON_ITS_PORT and port == protocol.port
            ):
                tried = "TLS"
                context = self.context or ssl.create_default_context()
                yield self._describe(reach.secure(host, port, _TIMEOUT_SECONDS, context))
        except WillowCartError as error:
            yield _failure(tried, error)
            return False
        return True

    def _describe(self, secured: reach.SecuredConnection) -> KnockFinding:
        said = f"{secured.version}, certificate of {secured.subject or 'unnamed subject'}"
        if secured.until is None:
            return KnockFinding("TLS", Verdict.FINE, said)
        said += f", valid until {secured.until:%Y-%m-%d}"
        if secured.until - self.now() < _ENDS_SOON:
            return KnockFinding(
                "TLS",
                Verdict.UNSURE,
                said,
                "tell the administrator that the certificate expires soon",
            )
        return KnockFinding("TLS", Verdict.FINE, said)

    def _listing(self, offers: list[Offer], found: Discovery, seconds: float) -> KnockFinding:
        names = ", ".join(offer.path for offer in offers[:_MOST_NAMED])
        count = count_of(len(offers), "file") + (" or more" if len(offers) == _MOST_LISTED else "")
        below = (
            f", {count_of(len(found.not_entered), 'folder')} not entered"
            if found.not_entered
            else ""
        )
        said = f"{count}{below}, in {_milliseconds(seconds)}"
        if not offers:
            return KnockFinding("listing", Verdict.UNSURE, said, "use willow-cart survey --depth 2")
        return KnockFinding("listing", Verdict.FINE, f"{said}: {names}")

    def _fetch(self, offer: Offer) -> Iterator[KnockFinding]:
        """Yield the findings on fetching, resuming, checksums and clock."""
        began = self.clock()
        facts = self.access.ask(offer.address)
        size = "of unknown size" if facts.length is None else format_size(facts.length)
        yield KnockFinding(
            "fetching", Verdict.FINE,
            f"{offer.file_name}, {size}, answer after {_milliseconds(self.clock() - began)}",
        )  # fmt: skip
        yield self._resume(offer, facts)
        if facts.proofs:
            yield KnockFinding("checksums", Verdict.FINE, f"sent as {', '.join(facts.proofs)}")
        else:
            yield KnockFinding(
                "checksums", Verdict.UNSURE, "the server sends none",
                "use --checksums if there is a checksum list",
            )  # fmt: skip
        if theirs := parse_date(facts.validators.date):
            yield self._compare_clocks(theirs)

    def _resume(self, offer: Offer, facts: Metadata) -> KnockFinding:
        """Test whether transfers can resume, by requesting the second byte of a file."""
        if facts.length is not None and facts.length < 2:
            return KnockFinding("resuming", Verdict.UNSURE, "not tested; the file is too small")
        answer = self.access.open(offer.address, start=1, validators=facts.validators)
        if isinstance(answer, Unchanged):
            raise NotServed(without_secrets(offer.address), "unexpected answer", "", status=304)
        try:
            return _resuming(answer)
        finally:
            answer.close()

    def _compare_clocks(self, theirs: datetime) -> KnockFinding:
        apart = abs(self.now() - theirs)
        said = f"differs from this machine's by {format_duration(apart.total_seconds())}"
        if apart > _CLOCK_MAY_DIFFER:
            return KnockFinding("clock", Verdict.UNSURE, said, "check this machine's clock")
        return KnockFinding("clock", Verdict.FINE, said)


def _resuming(answer: Download) -> KnockFinding:
    if answer.start:
        return KnockFinding("resuming", Verdict.FINE, "interrupted transfers resume")
    return KnockFinding(
        "resuming", Verdict.UNSURE, "interrupted transfers start over",
        "use fewer lanes",
    )  # fmt: skip


def _failure(tried: str, error: WillowCartError) -> KnockFinding:
    is_refused = isinstance(error, NotServed) and error.status in _NOT_LET_IN
    if is_refused or isinstance(error, SignInFailed):
        tried = "sign-in"
    return KnockFinding(tried, Verdict.FAILED, f"{error.thing}: {error.reason}", error.advice)


def _milliseconds(seconds: float) -> str:
    return f"{max(1, round(seconds * 1000)):,} ms"
