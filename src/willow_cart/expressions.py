"""Regular expressions from users, with a limit on the time of a search.

A few characters such as `(a+)+$` can keep an expression busy for longer than anyone waits.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from willow_cart.errors import BadOption

if TYPE_CHECKING:
    import regex

_MAX_PATTERN_CHARACTERS = 2000
_SECONDS_PER_TEXT = 1.0


class Expression:
    """A regular expression in Python's syntax.

    Args:
        option: what it was given as, for messages.
        pattern: as it was written.
        advice: what to do if it cannot be read.

    Attributes:
        groups: the names of its named groups, in order.

    Raises:
        BadOption: it cannot be read, or is longer than any that a user writes.
    """

    def __init__(self, option: str, pattern: str, advice: str) -> None:
        import regex  # most commands need none

        self._shown = f"{option} {pattern}".strip()
        if len(pattern) > _MAX_PATTERN_CHARACTERS:
            raise BadOption(
                f"{option} {pattern[:60]}...",
                f"is longer than {_MAX_PATTERN_CHARACTERS} characters",
                advice,
            )
        try:
            self._compiled = regex.compile(pattern)
        except (regex.error, RecursionError, OverflowError, MemoryError) as error:
            raise BadOption(
                self._shown, f"not a valid regular expression: {error}", advice
            ) from None
        self.groups = tuple(self._compiled.groupindex)

    def search(self, text: str) -> regex.Match[str] | None:
        """Search a text.

        Raises:
            BadOption: it takes too long.
        """
        return self._limited(self._compiled.search, text)

    def fullmatch(self, text: str) -> regex.Match[str] | None:
        """Match a whole text.

        Raises:
            BadOption: it takes too long.
        """
        return self._limited(self._compiled.fullmatch, text)

    def _limited(self, match: object, text: str) -> regex.Match[str] | None:
        try:
            found: regex.Match[str] | None = match(text, timeout=_SECONDS_PER_TEXT)  # type: ignore[operator]
        except (TimeoutError, MemoryError, RecursionError):
            raise BadOption(
                self._shown,
                f"takes too long on {text[:60]!r}",
                "simplify it: a repeat within a repeat is the usual reason",
            ) from None
        return found
