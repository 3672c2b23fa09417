"""Request facts that listings lack, and the type of addresses, in advance."""

from __future__ import annotations

import threading
from collections import defaultdict, deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Generic, TypeVar

from willow_cart.addresses import host_of
from willow_cart.errors import TransferFailed
from willow_cart.kinds import better_name
from willow_cart.model import Issue, Offer
from willow_cart.protocols.kept_answers import ManyQuestions
from willow_cart.redaction import without_secrets
from willow_cart.structs import replace

Answer = TypeVar("Answer")

# Enough probes ahead to keep all lanes busy.
_MAX_PROBES_AHEAD = 64

# How often it is reported what is being waited for, in seconds.
_REPORT_SECONDS = 5.0

Progress = Callable[[int, list[str]], None]
"""Told how many addresses have answered, and which are waited for, without secrets."""


def ask_sizes(
    offers: Sequence[Offer], questions: ManyQuestions, lanes: int
) -> tuple[list[Offer], list[Issue]]:
    """Request the size and date of each offer that lacks one; fetches no file.

    An offer whose address does not name a file type gets the name that its server has for it.

    Returns:
        The offers in their order, with the facts learnt, and the failures.
    """

    def ask(offer: Offer) -> Offer | Issue:
        if offer.size is not None and offer.modified is not None:
            return offer
        try:
            facts = questions.ask(offer.address)
        except TransferFailed as error:
            return Issue(without_secrets(offer.address), error.why)
        size = offer.size if facts.length is None else facts.length
        name = offer.name
        if name is None:
            name = better_name(offer.file_name, facts.file_name) or None
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


class AskAhead(Generic[Answer]):
    """The probe results of a series of addresses, requested by several threads.

    Hosts that do not answer hold up their own addresses and no others.

    Args:
        addresses: in the order in which their answers are wanted.
        lanes: how many of one host are asked at a time; twice as many of all.
        progress: called now and then with while answers are waited for.
    """

    def __init__(
        self,
        addresses: Iterator[str],
        ask: Callable[[str], Answer],
        lanes: int,
        progress: Progress,
    ) -> None:
        self._addresses = addresses
        self._ask = ask
        self._progress = progress
        self._pool = ThreadPoolExecutor(2 * lanes)
        self._hosts: defaultdict[str, threading.Semaphore] = defaultdict(
            lambda: threading.Semaphore(lanes)
        )
        self._asked: dict[str, Future[Answer]] = {}
        self._order: deque[str] = deque()
        self._taken = 0

    def take(self, address: str) -> Answer:
        """Return the result for an address, probed ahead or not.

        Raises:
            TransferFailed: it does not exist.
        """
        self._ask_more()
        future = self._asked.pop(address, None)
        if future is None:
            future = self._submit(address)
        while True:
            try:
                answer = future.result(timeout=_REPORT_SECONDS)
            except TimeoutError:
                if future.done():
                    raise
                waiting = self._waiting(address)
                done = sum(each.done() for each in self._asked.values())
                self._progress(self._taken + done, waiting)
            else:
                self._taken += 1
                return answer

    def close(self) -> None:
        """Start no more probes, and wait for the running ones."""
        self._pool.shutdown(cancel_futures=True)

    def _ask_more(self) -> None:
        while (
            len(self._asked) < _MAX_PROBES_AHEAD
            and (address := next(self._addresses, None)) is not None
        ):
            if address not in self._asked:
                self._asked[address] = self._submit(address)

    def _submit(self, address: str) -> Future[Answer]:
        host = self._hosts[host_of(address)]

        def ask() -> Answer:
            with host:
                return self._ask(address)

        return self._pool.submit(ask)

    def _waiting(self, address: str) -> list[str]:
        others = [each for each, future in self._asked.items() if not future.done()]
        return [without_secrets(each) for each in (address, *others)]
