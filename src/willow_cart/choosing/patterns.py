"""Patterns that users choose by: wildcards, regular expressions, words."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence

from willow_cart.errors import BadOption
from willow_cart.expressions import Expression
from willow_cart.model import Offer

Keeps = Callable[[Offer], bool]

# What a star stands for, and what two stars do.
_STAR = "[^/]*"
_DEEP = ("(?:[^/]+/)*", ".*")

_MAX_WILDCARD_CHARACTERS = 1000
_MAX_DEEP_WILDCARDS = 3

_STROKE = "\N{FRACTION SLASH}"


def wildcard(pattern: str) -> Keeps:
    """Return a test of an offer for a wildcard pattern.

    `*` and `?` stand for any characters and any one, `[abc]` and `[!abc]` for one of a set, all
    within one name; `**` stands for any number of folders. A pattern with a `/` is compared with
    the path below the source, any other against the name alone. Case counts.

    Raises:
        BadOption: a set in the pattern cannot be read.
    """
    matches = matcher(pattern.lstrip("/"), re.DOTALL)
    if "/" in pattern:
        return lambda offer: matches(offer.path) is not None
    return lambda offer: matches(offer.file_name) is not None


def on_path(pattern: str) -> Callable[[str], bool]:
    """Return a test of a path for a wildcard pattern.

    Raises:
        BadOption: a set in the pattern cannot be read.
    """
    matches = matcher(pattern.lstrip("/"), re.DOTALL)
    if "/" in pattern:
        return lambda path: matches(path) is not None
    return lambda path: matches(path.rpartition("/")[2]) is not None


def words(pattern: str) -> Callable[[str], bool]:
    """Return a test of the whole text of a link for a wildcard pattern, ignoring case.

    Raises:
        BadOption: a set in the pattern cannot be read.
    """
    # Words are no path: a slash among them separates nothing, so it is written as another stroke.
    matches = matcher(pattern.replace("/", _STROKE), re.DOTALL | re.IGNORECASE)
    return lambda text: matches(text.replace("/", _STROKE)) is not None


def matcher(pattern: str, flags: re.RegexFlag) -> Callable[[str], re.Match[str] | None]:
    """Return a test of a whole text for a wildcard pattern; wildcards do not match slashes.

    Raises:
        BadOption: a set in the pattern cannot be read.
    """
    pattern = re.sub(r"\*{3,}", "**", pattern)
    if len(pattern) > _MAX_WILDCARD_CHARACTERS or pattern.count("**") > _MAX_DEEP_WILDCARDS:
        raise BadOption(f"{pattern[:60]}", "has too many wildcards", "write it with fewer")
    try:
        return re.compile("".join(_unhurried(_translate(pattern))), flags).fullmatch
    except re.error as error:
        raise BadOption(pattern, f"not a valid wildcard: {error}", "fix what is in [ ]") from None


def _unhurried(pieces: Sequence[str]) -> Iterator[str]:
    """Make a star that is followed by another one in the same name match lazily.

    What is between two stars may as well be found at the first place where it is: the second
    star takes in the rest. So nothing is tried again, and the time does not grow with every star.
    """
    at = 0
    while at < len(pieces):
        if pieces[at] != _STAR:
            yield pieces[at]
            at += 1
            continue
        end = at + 1
        while end < len(pieces) and pieces[end] not in (_STAR, "/", *_DEEP):
            end += 1
        if end < len(pieces) and pieces[end] == _STAR:
            yield f"(?>[^/]*?{''.join(pieces[at + 1 : end])})"
        else:
            yield _STAR + "".join(pieces[at + 1 : end])
        at = end


def _translate(pattern: str) -> list[str]:
    """Translate a wildcard pattern into pieces of a regular expression."""
    written: list[str] = []
    at = 0
    while at < len(pattern):
        rest = pattern[at:]
        if rest.startswith("**/"):
            written.append(_DEEP[0])
            at += 3
        elif rest.startswith("**"):
            written.append(_DEEP[1])
            at += 2
        elif rest[0] == "*":
            written.append(_STAR)
            at += 1
        elif rest[0] == "?":
            written.append("[^/]")
            at += 1
        elif rest[0] == "[" and (end := rest.find("]", 3 if rest[1:2] == "!" else 2)) > 0:
            inside = rest[1:end].replace("\\", r"\\").replace("[", r"\[").replace("^", r"\^")
            if inside.startswith("!"):
                inside = f"^{inside[1:]}"
            # A set never stands for a slash, just as the other wildcards do not.
            written.append(f"(?!/)[{inside}]")
            at += end + 1
        else:
            written.append(re.escape(rest[0]))
            at += 1
    return written


def expression(option: str, pattern: str) -> Keeps:
    """Return a test that searches the path of an offer for a regular expression.

    Raises:
        BadOption: it cannot be read.
    """
    compiled = Expression(option, pattern, "fix it, or use wildcards with --keep and --drop")
    return lambda offer: compiled.search(offer.path) is not None


def literal_beginning(pattern: str) -> str:
    """Return the literal prefix of a wildcard pattern."""
    return re.split(r"[*?\[]", pattern.lstrip("/"), maxsplit=1)[0]


def read_numbers(option: str, text: str) -> list[range]:
    """Parse numbers and ranges, inclusive: `3,7-12`.

    Raises:
        BadOption: they cannot be read.
    """
    ranges = []
    for part in text.split(","):
        found = re.fullmatch(r"\s*(\d{1,12})(?:\s*-\s*(\d{1,12}))?\s*", part)
        if found is None or (found[2] and int(found[2]) < int(found[1])):
            raise BadOption(f"{option} {text}", "contains no numbers", "write them as 3,7-12")
        ranges.append(range(int(found[1]), int(found[2] or found[1]) + 1))
    return ranges
