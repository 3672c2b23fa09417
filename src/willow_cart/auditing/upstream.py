"""Ask the servers whether they have newer versions of files; fetches nothing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from itertools import islice

from willow_cart.auditing.at_rest import Audited, Finding
from willow_cart.errors import NotServed, TransferFailed
from willow_cart.ledger.entries import Arrival
from willow_cart.model import Metadata
from willow_cart.protocols import Access
from willow_cart.protocols.http.http_rules import contradict
from willow_cart.protocols.many_questions import ManyQuestions
from willow_cart.redaction import without_secrets

# RFC 9110, 15.5.5 and 15.5.11
_NO_MORE = (404, 410)


# As many files are asked for before the next are taken from the list.
_FILES_PER_LANE = 64


def ask_upstream(arrivals: Iterable[Arrival], access: Access, lanes: int) -> Iterator[Audited]:
    """Ask the server of each file whether it still has the version that arrived.

    Args:
        arrivals: what the ledger says of them.
        lanes: how many are asked at a time.

    Yields:
        What was found of each, in their order.
    """
    pool, questions = ThreadPoolExecutor(lanes), ManyQuestions(access)
    waiting = iter(arrivals)
    try:
        while some := list(islice(waiting, lanes * _FILES_PER_LANE)):
            yield from pool.map(partial(_ask, questions), some)
    finally:
        pool.shutdown(cancel_futures=True)


def _ask(questions: ManyQuestions, arrival: Arrival) -> Audited:
    def found(finding: Finding, why: str = "") -> Audited:
        return Audited(arrival.path, finding, why, arrival.size, arrival)

    try:
        facts = questions.ask(arrival.address)
    except NotServed as error:
        finding = Finding.GONE if error.status in _NO_MORE else Finding.UNTOLD
        return found(finding, error.reason)
    except TransferFailed as error:
        return found(Finding.UNTOLD, error.reason)
    if why := _difference(facts, arrival):
        return found(Finding.NEWER, why)
    there = without_secrets(facts.address)
    if there != arrival.final_address:
        return found(Finding.MOVED, f"it has moved to {there}")
    if not facts.validators and facts.length is None:
        return found(Finding.UNTOLD, "the server sends no version (ETag or Last-Modified)")
    return found(Finding.UNCHANGED)


def _difference(facts: Metadata, arrival: Arrival) -> str:
    """Return what shows that the server has another version; empty if nothing does."""
    if facts.length is not None and facts.length != arrival.size and not arrival.decoded:
        return f"it has {facts.length:,} bytes there, and {arrival.size:,} here"
    if contradict(facts.validators, arrival.validators):
        if facts.validators.entity_tag != arrival.entity_tag:
            return f"its mark is {facts.validators.entity_tag}, and was {arrival.entity_tag}"
        return f"it was changed on {facts.validators.last_modified}"
    return ""
