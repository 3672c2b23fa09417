"""The log of a haul: JSON Lines, one event each, for other programs."""

from __future__ import annotations

import re
import threading
from collections.abc import Mapping
from contextlib import suppress
from datetime import UTC, datetime
from functools import singledispatch
from pathlib import Path
from typing import Self, TextIO

from willow_cart.errors import CannotStore, InternalError, WillowCartError, plainly
from willow_cart.events import HaulEvent, Notice, Planned, Settled, Unpacked
from willow_cart.filing import Filed
from willow_cart.redaction import without_secrets
from willow_cart.replacing import require_output
from willow_cart.units import json_text


class LogFile:
    """A file that the events of a haul are written to.

    Args:
        path: the file; lines are appended.

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

    def note(self, event: Notice) -> None:
        """Write an event, if it is one of the haul's."""
        if not isinstance(event, HaulEvent):
            return
        moment = datetime.now(UTC).isoformat(timespec="milliseconds")
        line = json_text({"time": moment, "event": _name_of(event), **_facts_of(event)})
        # A disk that is full ends no haul for the sake of its log.
        with self._lock, suppress(OSError):
            self._file.write(f"{line}\n")


def _name_of(event: HaulEvent) -> str:
    """Return the name of an event: `strand_started` for a `StrandStarted`."""
    return event.logged_as or re.sub(r"(?<!^)(?=[A-Z])", "_", type(event).__name__).lower()


@singledispatch
def _facts_of(event: HaulEvent) -> Mapping[str, object]:
    """Return the fields of an event as a log has them."""
    facts: dict[str, object] = {}
    for name in event.__struct_fields__:
        facts |= _as_logged(name, getattr(event, name))
    return facts


def _as_logged(name: str, value: object) -> Mapping[str, object]:
    match value:
        case Filed(offer, path):
            return {"path": path, "url": without_secrets(offer.address)}
        case InternalError():
            return {"why": value.reason, "trace": value.trace}
        case WillowCartError():
            return {"why": value.reason}
        case float():
            return {name: round(value, 3)}
        case Path():
            return {name: str(value)}
    return {name: value}


@_facts_of.register
def _of_plan(event: Planned) -> Mapping[str, object]:
    sizes = event.plan.offers.sizes
    return {
        "files": len(event.plan), "bytes_known": sizes.exact, "sizes_unknown": sizes.unknown
    }  # fmt: skip


@_facts_of.register
def _of_unpacked(event: Unpacked) -> Mapping[str, object]:
    names = ("path", "folder", "files", "bytes", "not_chosen", "left_out", "gone", "failed")
    facts = {name: getattr(event, name) for name in names}
    return facts | {"left_out": {each.name: each.why for each in event.left_out}}


@_facts_of.register
def _of_settled(event: Settled) -> Mapping[str, object]:
    result, arrival = event.result, event.result.arrival
    names = ("state", "reason", "received", "resumed", "attempts", "twin", "note", "seconds")
    return {
        **_as_logged("filed", event.filed),
        **{name: getattr(result, name) for name in names},
        "size": arrival.size if arrival else None,
        "sha256": arrival.sha256 if arrival else None,
    }
