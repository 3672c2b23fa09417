"""What is remembered of an errand from one run to the next: when the last good one began.

It lies where the system keeps the state of programs, since an errand's file is the person's and its
destination may be another one every month.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from willow_cart.addresses import fingerprint
from willow_cart.replacing import replacing

LAST_RUN = "last run"
"""What stands for that moment where a date is asked for."""


@dataclass(frozen=True, slots=True)
class Memory:
    """What is remembered of one errand.

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
        """When the last run began that ended well; None if none has."""
        try:
            kept = json.loads(self._file.read_text("utf-8"))
            return datetime.fromisoformat(kept["began"])
        except (OSError, ValueError, KeyError, TypeError):
            return None  # what is not there, or damaged, is asked for once more

    def keep(self, began: datetime) -> None:
        """Remember a run that ended well.

        Raises:
            CannotStore: it cannot be written.
        """
        self.folder.mkdir(parents=True, exist_ok=True)
        with replacing(self._file) as text:
            json.dump({"errand": str(self.errand), "began": began.isoformat()}, text)
