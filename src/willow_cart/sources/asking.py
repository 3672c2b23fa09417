"""Request what listings leave out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from willow_cart.errors import TransferFailed
from willow_cart.kinds import extension_of
from willow_cart.model import Issue, Offer
from willow_cart.protocols import ONCE_MORE, Access
from willow_cart.redaction import without_secrets


def ask_sizes(
    offers: Sequence[Offer], access: Access, lanes: int
) -> tuple[list[Offer], list[Issue]]:
    """Request the size and date of each offer that lacks one; fetches no file.

    An offer whose address does not name a file type gets the name that its server has for it.

    Returns:
        The offers in their order, with what was learnt, and what could not be.
    """
    from concurrent.futures import ThreadPoolExecutor  # only who asks pays for it

    def ask(offer: Offer) -> Offer | Issue:
        if offer.size is not None and offer.modified is not None:
            return offer
        try:
            facts = access.retrier.run(lambda: access.ask(offer.address), ONCE_MORE)
        except TransferFailed as error:
            return Issue(without_secrets(offer.address), error.why)
        size = offer.size if facts.length is None else facts.length
        name = offer.name
        if name is None and facts.file_name and not extension_of(offer.file_name):
            name = facts.file_name
        return replace(offer, name=name, size=size, modified=facts.modified or offer.modified)

    pool = ThreadPoolExecutor(lanes)
    try:
        answers = list(pool.map(ask, offers))
    finally:
        # On an interrupt the remaining requests are not made.
        pool.shutdown(cancel_futures=True)
    learnt = [
        offer if isinstance(answer, Issue) else answer
        for offer, answer in zip(offers, answers, strict=True)
    ]
    return learnt, [answer for answer in answers if isinstance(answer, Issue)]
