"""The connection to the scheduler of a Dask cluster."""

from __future__ import annotations

import json
import logging
import socket
import ssl
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from willow_cart.errors import UnusableCluster
from willow_cart.structs import Value

_CONNECT_SECONDS = 10.0

# A scheduler that answers nothing for so long is as good as gone.
_ANSWER_SECONDS = 30.0

# Workers of a batch system may come up after the scheduler.
_FIRST_WORKER_SECONDS = 30.0


class Gone(Exception):
    """A worker or the scheduler does not answer any more.

    Attributes:
        thing: its address.
        reason: the cause, as far as known.
    """

    def __init__(self, thing: str, reason: str) -> None:
        super().__init__(thing, reason)
        self.thing = thing
        self.reason = reason

    def before_work(self) -> UnusableCluster:
        """Return the refusal of a scheduler that is gone before a haul has begun."""
        return UnusableCluster(self.thing, self.reason, "start it again")


class Worker(Value):
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
        except Exception as error:  # it reads files of the user's while it is loaded
            raise UnusableCluster(
                "Dask's configuration",
                f"cannot be read: {' '.join(str(error).split())}",
                "correct or move the file in ~/.config/dask",
            ) from error
        self._is_own = isinstance(place, str)
        self._signs: dict[str, tuple[float, float]] = {}
        self._client: Any  # the package has no types to speak of
        self._client = self._connect(distributed, place) if self._is_own else _require_open(place)
        self.shown: str = self._client.scheduler.address
        self._boot: str | None = None
        self._id = ""

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
            if (wrong := _trouble_with_tls(error)) is not None:
                raise UnusableCluster(
                    place,
                    f"TLS fails: {wrong}",
                    "give this machine the certificates of the cluster's authority"
                    " (distributed.comm.tls); the guide has an example",
                ) from error
            raise UnusableCluster(
                place,
                "no scheduler answers there",
                "start one with dask scheduler, and check the address",
            ) from error
        return client

    @property
    def boot_mark(self) -> str:
        """What distinguishes the start of the scheduler's machine from others; empty if unknown."""
        if self._boot is None:
            try:
                self._boot = str(
                    self._client.run_on_scheduler(
                        _make_boot_probe(), callback_timeout=_ANSWER_SECONDS
                    )
                )
            except Exception:  # it may not run what it is sent
                self._boot = ""
        return self._boot

    @property
    def dashboard(self) -> str:
        """The address of the scheduler's dashboard; empty for none."""
        try:
            return str(self._client.dashboard_link or "")
        except Exception:  # it has none, which shows as a missing key, or does not answer
            return ""

    def wait_for_workers(self) -> list[Worker]:
        """Return the workers; wait for the first one.

        Raises:
            UnusableCluster: none comes.
        """
        try:
            self._client.wait_for_workers(1, timeout=_FIRST_WORKER_SECONDS)
            return list(self.workers().values())
        except TimeoutError:
            raise UnusableCluster(
                self.shown, "has no workers", f"start some: dask worker {self.shown}"
            ) from None
        except Gone as error:
            raise error.before_work() from None

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
        if told.get("id") != (self._id or told.get("id")):
            raise Gone(self.shown, "the scheduler was started anew")
        self._id = told.get("id") or ""
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
        try:
            future = self._client.submit(
                function, *args, workers=[worker], allow_other_workers=False, pure=False, retries=0
            )
        except Exception as error:
            raise Gone(self.shown, "the scheduler does not answer") from error
        return Task(future)

    def ask(
        self,
        function: Callable[..., Any],
        args: Mapping[str, Sequence[Any]],
        *,
        late: float = _ANSWER_SECONDS,
    ) -> dict[str, Any]:
        """Have workers run a short function at once, each with arguments of its own.

        Args:
            function: what to run.
            args: its arguments, by the addresses of the workers.
            late: for how many seconds the others are waited for once one has answered.

        Returns:
            What each has returned or raised; those are missing that do not answer, or are gone.

        Raises:
            Gone: the scheduler does not answer.
        """
        try:
            answers: dict[str, Any] = self._client.sync(
                self._ask_all, function, args, late, callback_timeout=2 * _ANSWER_SECONDS
            )
        except Exception as error:
            raise Gone(self.shown, "the scheduler does not answer") from error
        lost = _losses()
        return {
            worker: answer for worker, answer in answers.items() if not isinstance(answer, lost)
        }

    async def _ask_all(
        self, function: Callable[..., Any], args: Mapping[str, Sequence[Any]], late: float
    ) -> dict[str, Any]:
        import asyncio

        asked = {
            asyncio.ensure_future(
                self._client.run(
                    function, *those, workers=[worker], on_error="return", asynchronous=True
                )
            ): worker
            for worker, those in args.items()
        }
        if not asked:
            return {}
        answered, waiting = await asyncio.wait(
            asked, timeout=_ANSWER_SECONDS, return_when=asyncio.FIRST_COMPLETED
        )
        if waiting and answered:
            answered |= (await asyncio.wait(waiting, timeout=late))[0]
        for task in asked.keys() - answered:
            task.cancel()
        return {
            asked[task]: task.exception() or task.result().get(asked[task]) for task in answered
        }

    def call(self, worker: str, function: Callable[..., Any], *args: Any) -> Any:
        """Have a worker run a short function at once, and return what it returns.

        Raises:
            Gone: the worker or the scheduler is gone, or does not answer.
        """
        answers = self.ask(function, {worker: args})
        if worker not in answers:
            raise Gone(worker, "does not answer")
        if isinstance(answers[worker], Exception):
            raise answers[worker]
        return answers[worker]

    def close(self) -> None:
        """Close the connection, if it was made here."""
        if self._is_own:
            self._client.close(timeout=_CONNECT_SECONDS)


def _losses() -> tuple[type[Exception], ...]:
    """Return what is raised when a worker that is asked has ended, or ends."""
    from distributed.comm.core import CommClosedError

    return (OSError, CommClosedError, ValueError, KeyError, RuntimeError)


def _make_boot_probe() -> Callable[[], str]:
    """Return a function that is sent as code: a scheduler may lack this package."""

    def probe() -> str:
        try:
            from willow_cart.platform import disks

            return disks.boot_mark()
        except Exception:  # whatever is wrong there, it cannot be told from another machine
            return ""

    return probe


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
    """Keep the package from writing on the screen: the errors here report it.

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


def _require_open(client: Any) -> Any:
    """Return a client of Dask's that was given.

    Raises:
        UnusableCluster: it cannot be used.
    """
    advice = "pass a client made by distributed.Client(ADDRESS), or the address"
    if not all(hasattr(client, each) for each in ("scheduler", "sync", "submit")):
        raise UnusableCluster("cluster", f"is {type(client).__name__}, no client of Dask's", advice)
    if client.asynchronous:
        raise UnusableCluster("cluster", "is an asynchronous client", advice)
    if client.status != "running":
        raise UnusableCluster("cluster", "is a client that is closed", advice)
    return client


def _trouble_with_tls(error: BaseException | None) -> str | None:
    """Return the TLS error, if that prevented the connection."""
    while error is not None:
        if isinstance(error, ssl.SSLError):
            return error.reason or str(error)
        if "SSL" in str(error) and "CERTIFICATE" in str(error):
            return "the certificate is not one that is trusted here"
        error = error.__cause__ or error.__context__
    return None


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
