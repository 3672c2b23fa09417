"""The request rate of a host, learnt from its busy answers."""

from __future__ import annotations

from collections import deque

# Until the first busy answer after a time without any the rate is far above what is allowed; from
# then on it is close.
_FACTOR_FAR = 0.5
_FACTOR_NEAR = 0.85
_SETTLED_SECONDS = 2.0

# Answers to requests that were sent together say the same once.
_TOGETHER_SECONDS = 0.2
_TOGETHER_SECONDS_NEAR = 1.0

# The rate rises by these shares of the rate at which the host was busy last, each second: faster up
# to the knee, and slowly from there. Where each busy answer costs a wait the knee is lower. With
# them a haul settles at 0.9 to 1.0 of what a token bucket allows, whether it names a wait or not.
_FAST_GROWTH = 0.04
_SLOW_GROWTH = 0.003
_KNEE_SHARE = 0.93
_KNEE_SHARE_WITH_WAIT = 0.87

# After this long without a busy answer the limit that was learnt no longer holds (settled hauls
# hear one more often), and the rate doubles every few seconds.
_OUTDATED_SECONDS = 30.0
_DOUBLING_SECONDS = 5.0
_MAX_DOUBLINGS = 40.0

_MIN_REQUESTS_PER_SECOND = 0.1
_MAX_SAMPLES = 50


class HostRate:
    """The request rate of one host: falls at once when the host is busy, and rises slowly.

    A policy without a clock, for one thread at a time.
    """

    def __init__(self) -> None:
        self._seen: deque[float] = deque(maxlen=_MAX_SAMPLES)
        self._base: float | None = None
        self._ceiling = 0.0
        self._since = 0.0
        self._outdated = 0.0
        self._has_served = False
        self._is_near = False
        self._knee = _KNEE_SHARE

    def took(self, now: float) -> None:
        """Record a good answer."""
        self._has_served = True
        if self._base is None:
            self._seen.append(now)

    def rate(self, now: float) -> float | None:
        """Return the allowed requests per second; None for no limit."""
        if self._base is None:
            return None
        doublings = min(_MAX_DOUBLINGS, max(0.0, now - self._outdated) / _DOUBLING_SECONDS)
        return float(self._learnt_rate(self._base, now - self._since) * 2.0**doublings)

    def _learnt_rate(self, rate: float, seconds: float) -> float:
        """Return the current rate, given the rate at which the host was last busy."""
        knee, step = self._knee * self._ceiling, _FAST_GROWTH * self._ceiling
        if rate < knee:
            until_knee = (knee - rate) / step
            if seconds <= until_knee:
                return rate + step * seconds
            rate, seconds = knee, seconds - until_knee
        return rate + _SLOW_GROWTH * self._ceiling * seconds

    def busy(self, now: float, wait: float | None) -> bool:
        """Lower the rate after a busy answer, if the host has answered well since the last one.

        A host that serves nothing is asked again by the rules for retries, however slowly.

        Args:
            now: the time in seconds.
            wait: seconds that the host asked to be left alone; None if it did not.

        Returns:
            Whether the rate was far above what the host takes.
        """
        together = _TOGETHER_SECONDS_NEAR if self._is_near else _TOGETHER_SECONDS
        if now - self._since < together and self._base is not None:
            return False
        if not self._has_served:
            return True
        rate = self.rate(now)
        if rate is None:
            span = now - self._seen[0] if self._seen else 1.0
            rate = max(1, len(self._seen)) / max(span, 0.05)
            fall = _FACTOR_FAR
        else:
            self._is_near |= now - self._since > _SETTLED_SECONDS + (wait or 0.0)
            self._is_near &= now < self._outdated
            fall = _FACTOR_NEAR if self._is_near else _FACTOR_FAR
        self._ceiling = rate
        self._knee = _KNEE_SHARE if wait is None else _KNEE_SHARE_WITH_WAIT
        self._base = max(_MIN_REQUESTS_PER_SECOND, fall * rate)
        self._since = now
        # While a host is left alone, as it asked, it cannot say that it is busy.
        self._outdated = now + (wait or 0.0) + _OUTDATED_SECONDS
        self._has_served = False
        return fall == _FACTOR_FAR
