"""The options of the table as arguments of argparse."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterable
from typing import Any

from willow_cart.errors import BadOption
from willow_cart.jobs import Command, Option


def add_arguments(parser: argparse.ArgumentParser, command: Command, *, raw: bool = False) -> None:
    """Add what a command takes to a parser.

    Args:
        parser: of the command.
        command: as the table has it.
        raw: whether values stay the texts that were typed.
    """
    for argument in command.arguments():
        _add(parser, argument, raw=raw)
    for group in command.groups():
        within: argparse._ActionsContainer = parser
        if group.title:
            within = parser.add_argument_group(group.title, group.text or None)
        _add_all(within, group.options, raw=raw)
    parser.set_defaults(**command.defaults)


def _add_all(to: argparse._ActionsContainer, options: Iterable[Option], *, raw: bool) -> None:
    """Add options; those that exclude each other go into groups of their own."""
    excluding: dict[str, argparse._ActionsContainer] = {}
    for option in options:
        where = to
        if option.one_of:
            if option.one_of not in excluding:
                excluding[option.one_of] = to.add_mutually_exclusive_group()
            where = excluding[option.one_of]
        _add(where, option, raw=raw)


def _add(to: argparse._ActionsContainer, option: Option, *, raw: bool) -> None:
    """Add one option, or an argument."""
    name = "" if option.is_argument else option.flag
    named: dict[str, Any] = {"dest": option.dest} if name else {}
    if name and option.is_required:
        named["required"] = True
    if option.is_flag:
        to.add_argument(name, action="store_true", help=option.help, **named)
        return
    if option.many:
        named["action"] = "append"
    if option.nargs is not None:
        named |= {"nargs": option.nargs, "const": option.const} if name else {"nargs": option.nargs}
    if option.read is not str and not raw:
        named["type"] = _reader(option)
    to.add_argument(
        name or option.dest,
        default=option.default,
        metavar=option.metavar or None,
        choices=list(option.choices) or None,
        help=option.help,
        **named,
    )


def _reader(option: Option) -> Callable[[str], Any]:
    """Return what reads a value, and says what is wrong with one as argparse wants it."""

    def read(text: str) -> Any:
        try:
            return option.read(text)
        except (BadOption, ValueError) as error:
            raise argparse.ArgumentTypeError(str(error)) from None

    return read
