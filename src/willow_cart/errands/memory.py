"""The stored state of an errand between runs.

When the last good one began, and what its sources offered up to then. It is where the system
keeps the state of programs, since an errand's file is the user's and its destination may be
another one every month.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from willow_cart.identity import AddressId, address_id
from willow_cart.platform.own_folders import state_folder
from willow_cart.redaction import fingerprint, lacks_secret
from willow_cart.replacing import replacing
from willow_cart.structs import Value

# Sources of earlier months are forgotten beyond this number.
_MAX_SOURCES = 60

# Times without a zone, as in FTP listings, may be as far from those of this machine.
_UNKNOWN_CLOCK = timedelta(days=1)

# Dates have whole seconds, and take a moment to come.
_CLOCK_ROUNDING = timedelta(seconds=60)
_MAX_CLOCK_SECONDS = 366 * 86400.0

LAST_RUN = "last run"
"""What represents that time where a date is requested."""


class Memory(Value):
    """The stored state of one errand.

    Attributes:
        errand: the full path of its file.
        folder: where such is kept.
    """

    errand: Path
    folder: Path

    @property
    def _file(self) -> Path:
        return self.folder / f"{self.errand.stem}-{fingerprint(str(self.errand))}.json"

    def last_good(self) -> datetime | None:
        """Return when the last successful run started; None if there was none."""
        try:
            return datetime.fromisoformat(self._kept()["began"])
        except (ValueError, KeyError, TypeError):
            return None  # what is not there, or damaged, is asked for once more

    def offered(self) -> dict[str, list[AddressId]]:
        """Return what each source offered up to the last successful run.

        By the fingerprint of the source: the identifiers of the addresses.
        """
        kept = self._kept()
        try:
            if "offers" in kept:
                return {mark: [*map(AddressId, found)] for mark, found in kept["offers"].items()}
            # An early version kept addresses without secrets; which these were is not known.
            return {
                mark: [address_id(each) for each in map(str, found) if not lacks_secret(each)]
                for mark, found in kept["offered"].items()
            }
        except (KeyError, TypeError, AttributeError):
            return {}

    def keep(
        self,
        began: datetime,
        offered: Mapping[str, Collection[AddressId]],
        clocks: Collection[float | None] = (),
    ) -> None:
        """Store a successful run.

        Args:
            began: when.
            clocks: by how many seconds the clocks of the sources' servers are ahead of this
                machine's; None for unknown. Dates of files are by the slowest of them.
            offered: what each source offers, by its mark. That of other sources, such as of last
                month, stays remembered for a while.

        Raises:
            CannotStore: it cannot be written.
        """
        others = [each for each in self.offered().items() if each[0] not in offered]
        now = {mark: [*addresses] for mark, addresses in offered.items()}
        content = {
            "errand": str(self.errand),
            "began": (began + _margin(clocks)).isoformat(),
            "offers": dict(others[-_MAX_SOURCES:]) | now,
        }
        self.folder.mkdir(parents=True, exist_ok=True)
        with replacing(self._file) as text:
            json.dump(content, text)

    def _kept(self) -> Any:
        try:
            return json.loads(self._file.read_text("utf-8"))
        except (OSError, ValueError):
            return {}


def _margin(clocks: Collection[float | None]) -> timedelta:
    """Return what to add to the time of a run to have it by the clock of any source."""
    if not clocks or None in clocks:
        return -_UNKNOWN_CLOCK
    slowest = min(each for each in clocks if each is not None)
    return timedelta(seconds=max(min(slowest, 0.0), -_MAX_CLOCK_SECONDS)) - _CLOCK_ROUNDING


def my_memory(errand: Path) -> Memory:
    """Return the stored state of an errand for the current user."""
    return Memory(errand, state_folder() / "errands")
