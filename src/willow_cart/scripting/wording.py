"""Help on the keywords of the Python functions, and errors in terms of Python."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Callable
from enum import Enum
from functools import cache, wraps
from typing import ForwardRef, ParamSpec, TypeVar

from willow_cart.commands.table import COMMANDS
from willow_cart.errors import WillowCartError
from willow_cart.options.option import Option, Request

Taken = ParamSpec("Taken")
Returned = TypeVar("Returned")

_WIDTH = 88


def command_function(
    kind: type[Request], keywords: type
) -> Callable[[Callable[Taken, Returned]], Callable[Taken, Returned]]:
    """Return a decorator for the function of a command.

    `help` lists its keywords with types and defaults, and its errors name keywords, not options.

    Args:
        kind: the request of the command.
        keywords: the typed dictionary of its keywords.
    """

    def decorate(function: Callable[Taken, Returned]) -> Callable[Taken, Returned]:
        @wraps(function)
        def speaking_python(*args: Taken.args, **more: Taken.kwargs) -> Returned:
            try:
                return function(*args, **more)
            except WillowCartError as error:
                error.reason, error.advice = in_python(error.reason), in_python(error.advice)
                if error.thing.startswith("--"):  # other things are names, which stay
                    error.thing = in_python(error.thing)
                error.args = (error.thing, error.reason, error.advice)
                raise

        speaking_python.__doc__ = f"{function.__doc__}\n\n{_help_on(kind, keywords)}"
        return speaking_python

    return decorate


def _help_on(kind: type[Request], keywords: type) -> str:
    """Return the keywords of a function with their types, defaults and meanings."""
    options = {each.dest: each for each in kind.by_key().values()}
    lines = ["    Keywords:"]
    for name, annotation in keywords.__annotations__.items():
        option = options.get(name) or options.get(f"{name}_")
        if option is not None:
            default = str(option.default) if isinstance(option.default, Enum) else option.default
            written = annotation.__forward_arg__ if isinstance(annotation, ForwardRef) else ""
            lines += (f"        {name}: {written} = {default!r}", _meaning(option.text))
    return "\n".join(lines)


@cache
def _meaning(text: str) -> str:
    """Return the help text of an option, as lines of a docstring."""
    indent = " " * 12
    return textwrap.fill(in_python(text), _WIDTH, initial_indent=indent, subsequent_indent=indent)


@cache
def _options() -> dict[str, Option]:
    """Return all options by their names on the command line."""
    return {each.flag: each for command in COMMANDS.values() for each in command.options()}


_OPTION = re.compile(
    r"(--[a-z][a-z0-9-]*)(?:[ =](all\b|[A-Z][A-Z_]+\b|[a-z]+(?:\|[a-z]+)*\b|\d+))?"
)
_COMMAND = re.compile(r"\bwillow-cart ([a-z]+)\b(?! [a-z]+:)")
_WITHOUT_FUNCTION = frozenset({"runs", "timetable", "settings", "help", "completion", "demo"})


def in_python(text: str) -> str:
    """Return a message that names keywords and functions for options and commands."""
    text = _OPTION.sub(_keyword, text)
    text = _COMMAND.sub(_function, text)
    return text.replace("the same command", "the same call")


def _keyword(found: re.Match[str]) -> str:
    """Return the keyword for an option: `lanes=4`, `start_over=True`."""
    option, value = _options().get(found[1]), found[2] or ""
    if option is None:
        return found[0]
    if option.is_flag:
        return f"{option.key}=True" + found[0][len(found[1]) :]
    is_value = value.isdigit() or value.isupper() or value == "all"
    if is_value or (value and set(value.split("|")) <= {*option.choices}):
        return f"{option.key}={value if value.isdigit() or value.isupper() else repr(value)}"
    return option.key + found[0][len(found[1]) :]


def _function(found: re.Match[str]) -> str:
    name = found[1]
    return f"wc.{name}()" if name in COMMANDS.keys() - _WITHOUT_FUNCTION else found[0]
