"""Show and store requests without the secrets that were typed."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence

from willow_cart.options import Option
from willow_cart.redaction import SECRET_REFERENCES, without_secrets
from willow_cart.requests.commands import COMMANDS
from willow_cart.requests.request import Request


def without_value(option: Option, text: str) -> str:
    """Return a value of an option without a secret."""
    before, value = "", text
    if option.key == "header":
        name, _, value = text.partition(":")
        before = f"{name}: "
    elif not option.is_secret:
        return text
    return text if value.strip().startswith(SECRET_REFERENCES) else f"{before}***"


def shown_command(request: Request) -> str:
    """Return the command line without secrets, as it can be typed again."""
    return shlex.join(["willow-cart", *map(without_secrets, _shown_words(request.words))])


def _shown_words(words: Sequence[str]) -> Iterator[str]:
    """Yield words without secrets."""
    options = {each.flag: each for each in COMMANDS[words[0]].options()}
    before: Option | None = None
    for word in words:
        flag, equals, value = word.partition("=")
        if equals and flag in options:
            yield f"{flag}={without_value(options[flag], value)}"
        else:
            yield word if before is None else without_value(before, word)
        before = options.get(word)
