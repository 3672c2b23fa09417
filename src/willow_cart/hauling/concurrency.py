"""Find the number of lanes that is fastest for small files."""

from __future__ import annotations

# Shares of one processor. Above the first, lanes wait for the interpreter and not for the line;
# below the second, another one finds it idle.
_CROWDED_SHARE = 0.9
_IDLE_SHARE = 0.5

# Up to this size, files cost more processor time than transfer time.
_MAX_SMALL_FILE_BYTES = 256 * 1024


class ConcurrencyController:
    """Watches how busy the interpreter is, and computes how many lanes should be open.

    Python runs one thread at a time between waits. On a fast line, lanes that all have something to
    do hand the interpreter to and fro: two spend a third more processor time on the same small
    files than one. While the line or the disk makes them wait, more lanes are a gain; they are
    doubled from measurement to measurement, so that a slow line has all of them at once.

    Args:
        most: the lanes that the user allows.
        now: the time in seconds.
        used: processor time that this process has used, in seconds.

    Attributes:
        lanes: how many should be open.
        is_crowded: whether the interpreter has ever been what kept them from going faster.
    """

    def __init__(self, most: int, now: float, used: float) -> None:
        self._most = most
        self._last = (now, used, 0, 0)
        self.lanes = 1
        self.is_crowded = False

    def measure(self, now: float, used: float, files: int, received: int) -> int:
        """Return how many lanes should be open from now on.

        Args:
            now: the time in seconds.
            used: processor time that this process has used, in seconds.
            files: how many have come so far.
            received: how many bytes they were.
        """
        then, used_then, files_then, received_then = self._last
        self._last = (now, used, files, received)
        came = files - files_then
        share = (used - used_then) / (now - then) if now > then else 0.0
        if (
            came == 0
            or received - received_then > came * _MAX_SMALL_FILE_BYTES
            or share <= _IDLE_SHARE
        ):
            self.lanes = min(self._most, 2 * self.lanes)
        elif share >= _CROWDED_SHARE:
            self.lanes = max(1, self.lanes // 2)
            self.is_crowded = True
        return self.lanes
