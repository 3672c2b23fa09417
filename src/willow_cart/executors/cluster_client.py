"""The connection to the scheduler of a Dask cluster."""

from __future__ import annotations

import json
import logging
import socket
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from willow_cart.errors import UnusableCluster

_CONNECT_SECONDS = 10.0

# A scheduler that answers nothing for so long is as good as gone.
_ANSWER_SECONDS = 30.0

# Workers of a batch system may come up after the scheduler.
_FIRST_WORKER_SECONDS = 30.0

_POLL_SECONDS = 0.2


class Gone(Exception):
    """A worker or the scheduler does not answer any more.

    Attributes:
        thing: its address.
        reason: what is known of it.
    """

    def __init__(self, thing: str, reason: str) -> None:
        super().__init__(thing, reason)
        self.thing = thing
        self.reason = reason


@dataclass(frozen=True, slots=True)
class Worker:
    """A worker, as the scheduler knows it.

    Attributes:
        address: how the scheduler calls it.
        name: how people call it.
        lanes: how many threads it has.
        silent_seconds: for how long nothing was heard of it.
    """

    address: str
    name: str
    lanes: int
    silent_seconds: float

    @property
    def shown(self) -> str:
        """Return how it is called in messages."""
        return f"worker {self.name}"


class Task:
    """A function that a worker runs.

    Attributes:
        done: set when it has ended, one way or another.
    """

    def __init__(self, future: Any) -> None:
        self._future = future
        self.done = threading.Event()
        future.add_done_callback(lambda _: self.done.set())

    def cancel(self) -> None:
        """Have it forgotten; what runs already is not stopped."""
        self._future.cancel(force=True)

    def result(self) -> Any:
        """Return what it returned, or raise what it raised.

        Raises:
            Gone: its worker was lost.
        """
        from asyncio import CancelledError as TaskCancelled
        from concurrent.futures import CancelledError

        from distributed import KilledWorker
        from distributed.comm.core import CommClosedError

        try:
            return self._future.result(timeout=_ANSWER_SECONDS)
        except (
            CancelledError, TaskCancelled, KilledWorker, CommClosedError, TimeoutError
        ) as error:  # fmt: skip
            raise Gone("a worker", "is lost") from error
        finally:
            self._future.release()


class ClusterClient:
    """A connection to a scheduler.

    Args:
        place: the address of the scheduler, the file that it has written, or a client of Dask's.

    Attributes:
        shown: how the scheduler is called in messages.

    Raises:
        UnusableCluster: the package is missing, or nothing answers there.
    """

    def __init__(self, place: Any) -> None:
        try:
            import distributed
        except ImportError:
            raise UnusableCluster(
                "--cluster",
                "requires the package distributed, which is not installed",
                "install it with pip install 'willow-cart[cluster]'",
            ) from None
        self._is_own = isinstance(place, str)
        self.shown: str
        self._signs: dict[str, tuple[float, float]] = {}
        self._client: Any  # the package has no types to speak of
        self.shown = place if self._is_own else place.scheduler.address
        self._client = self._connect(distributed, place) if self._is_own else place

    def _connect(self, distributed: Any, place: str) -> Any:
        _silence()
        address = place if "://" in place else _address_in(Path(place))
        if address.startswith("tls://"):
            _require_certificates(distributed, place)
        try:
            _require_open_port(address)  # the package retries for a long time
            client = distributed.Client(
                address, timeout=_CONNECT_SECONDS, set_as_default=False, name="willow-cart"
            )
        except (OSError, ValueError, RuntimeError) as error:
            raise UnusableCluster(
                place,
                "no scheduler answers there",
                "start one with dask scheduler, and check the address",
            ) from error
        self.shown = client.scheduler.address
        return client

    @property
    def dashboard(self) -> str:
        """The address of the scheduler's dashboard; empty for none."""
        try:
            return str(self._client.dashboard_link or "")
        except Exception:  # it has none, which shows as a missing key, or does not answer
            return ""

    def is_private(self, worker: str) -> bool:
        """Whether secrets may go to a worker: by TLS, or without leaving this machine."""
        return all(
            each.startswith(("tls://", "inproc://")) or _is_here(each)
            for each in (self.shown, worker)
        )

    def wait_for_workers(self) -> list[Worker]:
        """Return the workers; wait for the first one.

        Raises:
            UnusableCluster: none comes.
        """
        deadline = time.monotonic() + _FIRST_WORKER_SECONDS
        try:
            while not (present := self.workers()):
                if time.monotonic() > deadline:
                    raise UnusableCluster(
                        self.shown, "has no workers", f"start some: dask worker {self.shown}"
                    )
                time.sleep(_POLL_SECONDS)
        except Gone as error:
            raise UnusableCluster(self.shown, error.reason, "start it again") from None
        return list(present.values())

    def workers(self) -> dict[str, Worker]:
        """Return the workers that the scheduler knows, by their addresses.

        Raises:
            Gone: the scheduler does not answer.
        """
        try:
            told = self._client.sync(
                self._client.scheduler.identity, n_workers=-1, callback_timeout=_ANSWER_SECONDS
            )
        except Exception as error:  # a closed connection shows in many ways
            raise Gone(self.shown, "the scheduler does not answer") from error
        present = {}
        now = time.monotonic()
        for address, each in told["workers"].items():
            # By the scheduler's clock, which may be another; a new sign of life is one of now.
            sign = float(each["last_seen"])
            if self._signs.get(address, (0.0, 0.0))[0] != sign:
                self._signs[address] = (sign, now)
            silent = now - self._signs[address][1]
            present[address] = Worker(address, str(each["name"]), int(each["nthreads"]), silent)
        return present

    def submit(self, worker: str, function: Callable[..., Any], *args: Any) -> Task:
        """Have a worker run a function in one of its threads.

        Raises:
            Gone: the scheduler is gone.
        """
        return self.submit_to_any([worker], function, *args)

    def submit_to_any(
        self, workers: Sequence[str], function: Callable[..., Any], *args: Any
    ) -> Task:
        """Have one of several workers run a function in one of its threads.

        Raises:
            Gone: the scheduler is gone.
        """
        try:
            future = self._client.submit(
                function, *args, workers=[*workers], allow_other_workers=False, pure=False,
                retries=0,
            )  # fmt: skip
        except Exception as error:
            raise Gone(self.shown, "the scheduler does not answer") from error
        return Task(future)

    def call(
        self,
        worker: str,
        function: Callable[..., Any],
        *args: Any,
        is_lost: Callable[[], bool] = lambda: False,
    ) -> Any:
        """Have a worker run a short function at once, and return what it returns.

        Args:
            worker: the address of the worker.
            function: what to run.
            args: its arguments.
            is_lost: whether the worker is known to be gone.

        Raises:
            Gone: the worker or the scheduler is gone, or does not answer.
        """
        from distributed.comm.core import CommClosedError

        answers: Future[Any] = Future()

        def ask() -> None:
            try:
                answers.set_result(
                    self._client.run(function, *args, workers=[worker], on_error="return")
                )
            except BaseException as error:
                answers.set_exception(error)

        # A worker that hangs answers no call, and the call itself would never end.
        threading.Thread(target=ask, name="cluster call", daemon=True).start()
        deadline = time.monotonic() + _ANSWER_SECONDS
        while not answers.done():
            with suppress(TimeoutError):
                answers.exception(_POLL_SECONDS)
            if is_lost() or time.monotonic() > deadline:
                raise Gone(worker, "does not answer")
        try:
            answer = answers.result().get(worker)
        except Exception as error:
            raise Gone(worker, "does not answer") from error
        if isinstance(answer, (OSError, CommClosedError, ValueError, KeyError, RuntimeError)):
            raise Gone(worker, "does not answer") from answer
        if isinstance(answer, Exception):
            raise answer
        return answer

    def close(self) -> None:
        """Close the connection, if it was made here."""
        if self._is_own:
            self._client.close(timeout=_CONNECT_SECONDS)


def _require_open_port(address: str) -> None:
    """Try the port of a scheduler once.

    Raises:
        OSError: nothing listens there.
        ValueError: the address names no port.
    """
    parts = urlsplit(address)
    if parts.hostname and parts.port:
        socket.create_connection((parts.hostname, parts.port), _CONNECT_SECONDS).close()


def _silence() -> None:
    """Keep the package from writing on the screen: what it has to say is said by the errors here.

    Its loggers have levels and outputs of their own.
    """
    for name in ("distributed", *logging.root.manager.loggerDict):
        if name.partition(".")[0] == "distributed":
            logging.getLogger(name).setLevel(logging.CRITICAL)


def _address_in(file: Path) -> str:
    """Return the address in a file that a scheduler has written.

    Raises:
        UnusableCluster: it is not one.
    """
    try:
        told = json.loads(file.read_text(encoding="utf-8"))
        return str(told["address"])
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise UnusableCluster(
            str(file),
            "neither an address nor a scheduler's file",
            "write tcp://HOST:8786, tls://HOST:8786, or the path of the file",
        ) from error


def _require_certificates(distributed: Any, place: str) -> None:
    """Refuse TLS without certificates.

    Raises:
        UnusableCluster: Dask's configuration names none, or they cannot be read.
    """
    reason = "Dask's configuration names no certificates"
    try:
        context = distributed.Security().get_connection_args("client").get("ssl_context")
    except (OSError, ValueError, TypeError) as error:
        context, reason = None, f"its certificates cannot be read: {error}"
    if context is None:
        raise UnusableCluster(
            place, reason, "set distributed.comm.tls in it; the guide has an example"
        )


def _is_here(address: str) -> bool:
    """Whether an address is one of this machine's own."""
    host = urlsplit(address).hostname or ""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as probe:
        try:
            probe.bind((host, 0))
        except OSError:
            return False
    return True
