"""The log of a haul: JSON Lines, one event each, for other programs."""

from __future__ import annotations

import threading
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Self, TextIO

from willow_cart.errors import CannotStore, InternalError, TransientError, WillowCartError, plainly
from willow_cart.filing import Filed, Plan
from willow_cart.hauling.summary import HaulSummary
from willow_cart.ledger.entries import Result
from willow_cart.redaction import without_secrets
from willow_cart.replacing import require_output
from willow_cart.transfer.observer import Handled, Observer, Unpacked
from willow_cart.units import json_text


class LogFile(Observer):
    """An observer that writes events to a file.

    Args:
        path: the file; lines are added to what is in it.

    Raises:
        BadOption: an existing file is not a log.
        CannotStore: the file cannot be written.
    """

    def __init__(self, path: Path) -> None:
        self._lock = threading.Lock()
        require_output(path, lambda content: content.startswith(b'{"time": '))
        try:
            self._file: TextIO = path.open("a", encoding="utf-8", buffering=1)
        except OSError as error:
            raise CannotStore(
                str(path), f"cannot be written: {plainly(error)}", "name another"
            ) from None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        with suppress(OSError):
            self._file.close()

    def ended(self, account: HaulSummary) -> None:
        """Write the result of the haul."""
        self._write(
            "ended",
            run=account.run,
            files=account.planned,
            counts=dict(account.counts),
            received=account.received,
            seconds=round(account.seconds, 3),
            exit_code=int(account.exit_code),
        )

    def _write(self, event: str, **facts: object) -> None:
        moment = datetime.now(UTC).isoformat(timespec="milliseconds")
        line = json_text({"time": moment, "event": event, **facts})
        # A disk that is full ends no haul for the sake of its log.
        with self._lock, suppress(OSError):
            self._file.write(f"{line}\n")

    def resuming(self, begun: str) -> None:
        """Write that an earlier haul was interrupted."""
        self._write("resuming", begun=begun)

    def planned(self, plan: Plan) -> None:
        """Write the number of files and bytes."""
        sizes = plan.offers.sizes
        self._write(
            "planned", files=len(plan), bytes_known=sizes.exact, sizes_unknown=sizes.unknown
        )

    def started(self, lane: int, filed: Filed, length: int | None, start: int) -> None:
        """Write which file a lane has started, and at which byte."""
        self._write("started", lane=lane, **_file(filed), length=length, start=start)

    def joined(self, lane: int, filed: Filed, start: int, end: int) -> None:
        """Write which bytes of another lane's file a lane has started."""
        self._write("strand_started", lane=lane, **_file(filed), start=start, end=end)

    def postponed(self, lane: int, filed: Filed, error: TransientError, pause: float) -> None:
        """Write why a file was postponed."""
        self._write("postponed", lane=lane, **_file(filed), why=error.reason, pause=round(pause, 3))

    def switched_mirror(self, lane: int, filed: Filed, why: str, mirror: str) -> None:
        """Write which mirror is tried."""
        self._write("switched_mirror", lane=lane, **_file(filed), why=why, mirror=mirror)

    def lanes_changed(self, host: str, lanes: int) -> None:
        """Write how many lanes a host has now."""
        self._write("lanes_changed", host=host, lanes=lanes)

    def processes_started(self, count: int) -> None:
        """Write how many further processes carry small files."""
        self._write("processes_started", processes=count)

    def process_lost(self) -> None:
        """Write that a further process was killed."""
        self._write("process_lost")

    def cluster_used(self, scheduler: str, dashboard: str) -> None:
        """Write which cluster carries the files."""
        self._write("cluster_used", scheduler=scheduler, dashboard=dashboard)

    def worker_joined(self, worker: str, lanes: int) -> None:
        """Write which worker of the cluster carries files from now on."""
        self._write("worker_joined", worker=worker, lanes=lanes)

    def worker_unusable(self, worker: str, why: str) -> None:
        """Write which worker of the cluster gets no files."""
        self._write("worker_unusable", worker=worker, why=why)

    def worker_lost(self, worker: str, why: str) -> None:
        """Write which worker of the cluster carries no more files."""
        self._write("worker_lost", worker=worker, why=why)

    def handed_over(self, lane: int, worker: str) -> None:
        """Write which worker a lane waits for."""
        self._write("handed_over", lane=lane, worker=worker)

    def carried_by(self, filed: Filed, worker: str) -> None:
        """Write which worker has made an attempt at a file."""
        self._write("carried_by", **_file(filed), worker=worker)

    def host_suspended(self, host: str, error: WillowCartError, pause: float) -> None:
        """Write which host was suspended."""
        self._write("host_suspended", host=host, why=error.reason, pause=round(pause, 3))

    def host_given_up(self, host: str, why: str, files: int) -> None:
        """Write which host was given up."""
        self._write("host_given_up", host=host, why=why, files=files)

    def internal_error(self, path: str, error: InternalError) -> None:
        """Write where a bug of this program occurred."""
        self._write("internal_error", path=path, why=error.reason, trace=error.trace)

    def moved_aside(self, path: str, kept: Path) -> None:
        """Write where an existing file was moved."""
        self._write("moved_aside", path=path, kept=str(kept))

    def handled(self, handled: Handled) -> None:
        """Write the output of the user's command for a file."""
        self._write(
            "handled",
            path=handled.path,
            why=handled.why,
            output=handled.output,
            seconds=round(handled.seconds, 3),
        )

    def unpacked(self, unpacked: Unpacked) -> None:
        """Write the result of unpacking an archive."""
        self._write(
            "unpacked",
            path=unpacked.path,
            folder=unpacked.folder,
            files=unpacked.files,
            bytes=unpacked.bytes,
            not_chosen=unpacked.not_chosen,
            left_out={each.name: each.why for each in unpacked.left_out},
            gone=unpacked.gone,
            failed=unpacked.failed,
        )

    def settled(self, filed: Filed, result: Result) -> None:
        """Write the result of a file."""
        arrival = result.arrival
        self._write(
            "settled",
            **_file(filed),
            state=result.state,
            reason=result.reason,
            received=result.received,
            resumed=result.resumed,
            attempts=result.attempts,
            twin=result.twin,
            note=result.note,
            seconds=result.seconds,
            size=arrival.size if arrival else None,
            sha256=arrival.sha256 if arrival else None,
        )


def _file(filed: Filed) -> dict[str, object]:
    return {"path": filed.path, "url": without_secrets(filed.offer.address)}
