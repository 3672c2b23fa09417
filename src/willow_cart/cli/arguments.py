"""Convert the option table to arguments of argparse."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterable
from typing import Any

from willow_cart.errors import BadOption
from willow_cart.requests import Command, Option
from willow_cart.requests.given import Given


def add_arguments(parser: argparse.ArgumentParser, command: Command) -> None:
    """Add the arguments of a command to a parser; values stay text, and there are no defaults."""
    for argument in command.arguments():
        _add(parser, argument)
    for group in command.groups():
        within: argparse._ActionsContainer = parser
        if group.title:
            within = parser.add_argument_group(group.title, group.text or None)
        _add_all(within, group.options)


def given_by(typed: argparse.Namespace, command: Command) -> Given:
    """Return the texts that were typed, by option key."""
    values = vars(typed)
    return {
        key: _texts_of(values[option.dest])
        for key, option in command.by_key().items()
        if option.dest in values
    }


def _texts_of(value: object) -> tuple[str, ...]:
    if isinstance(value, list):
        return tuple(value)
    return (value,) if isinstance(value, str) else ("",)


def _add_all(to: argparse._ActionsContainer, options: Iterable[Option]) -> None:
    """Add options; mutually exclusive ones go into groups."""
    excluding: dict[str, argparse._ActionsContainer] = {}
    for option in options:
        where = to
        if option.one_of:
            if option.one_of not in excluding:
                excluding[option.one_of] = to.add_mutually_exclusive_group()
            where = excluding[option.one_of]
        _add(where, option)


def _add(to: argparse._ActionsContainer, option: Option) -> None:
    """Add one option or argument."""
    name = "" if option.is_argument else option.flag
    named: dict[str, Any] = {"dest": option.dest} if name else {}
    help_text = option.text.replace("%", "%%")
    if name and option.is_required:
        named["required"] = True
    if option.is_flag:
        to.add_argument(
            name, action="store_true", default=argparse.SUPPRESS, help=help_text, **named
        )
        return
    if option.many:
        named["action"] = "append"
    if option.nargs is not None:
        named |= {"nargs": option.nargs}
        if option.const is not None:
            named["const"] = ""  # stands for no value
    to.add_argument(
        name or option.dest,
        default=argparse.SUPPRESS,
        type=_checked(option),
        metavar=option.metavar or None,
        choices=list(option.choices) or None,
        help=help_text,
        **named,
    )


def _checked(option: Option) -> Callable[[str], str]:
    """Return an argparse type that refuses texts which the option does not accept."""

    def check(text: str) -> str:
        if text == argparse.SUPPRESS or (not text and option.const is not None):
            return text
        try:
            option.read(text)
        except (BadOption, ValueError) as error:
            raise argparse.ArgumentTypeError(str(error)) from None
        return text

    return check
