"""Options by their keys, as errands, settings and scripts give them instead of typing them.

A key is an option's name with `_` for `-`. Whatever is given so is turned into what would be typed
and read by the command's own parser, so that nothing is understood in two ways.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from importlib import import_module
from typing import NoReturn

from willow_cart.errands.document import Table
from willow_cart.errors import BadOption

Fill = Callable[[str, str, str], str]
"""Makes the text of an option from what is given: the text, its key, and where it stands."""


def options_of_command(
    command: str, groups: Sequence[str] = (), without: Sequence[str] = ()
) -> dict[str, argparse.Action]:
    """The options of a command by their keys, of all groups or of some."""
    parser = argparse.ArgumentParser(add_help=False)
    import_module(f"willow_cart.cli.{command}").add_options(parser)
    return {
        action.option_strings[0].lstrip("-").replace("-", "_"): action
        for group in parser._action_groups  # noqa: SLF001  # there is no public way to them
        if (not groups or group.title in groups) and group.title not in without
        for action in group._group_actions  # noqa: SLF001
        if action.option_strings
    }


def words_of(
    table: Table,
    options: Mapping[str, argparse.Action],
    besides: Sequence[str] = (),
    fill: Fill = lambda text, _key, _place: text,
) -> list[str]:
    """The options of a table, as they would be typed.

    Args:
        table: keys and what is given for them.
        options: those that there are.
        besides: keys that mean something else there.
        fill: what puts values in.

    Raises:
        BadOption: a key means nothing, or its value is of another type.
    """
    table.require_known((*options, *besides))
    words = []
    for key, value in table.keys.items():
        if key in besides:
            continue
        action, place = options[key], table.place(key)
        option = action.option_strings[0]
        if action.nargs == 0:
            if not isinstance(value, bool):
                raise BadOption(place, "is yes or no", "write true or false")
            words += [option] if value else []
            continue
        if isinstance(value, bool | dict):
            raise BadOption(place, "is neither text, number nor list", "write it in quotes")
        several = value if isinstance(value, list | tuple) else [value]
        filled = [fill(_text_of(each), key, place) for each in several]
        given = filled if isinstance(action.default, list) else [",".join(filled)]
        for text in given:
            _require_good(action, text, place)
        words += [f"{option}={text}" for text in given]
    return words


def _require_good(action: argparse.Action, text: str, place: str) -> None:
    """Refuse what the option does not take, with the place where it stands.

    Raises:
        BadOption: it is such.
    """
    try:
        read = text if action.type is None else action.type(text)  # type: ignore[operator]
    except (argparse.ArgumentTypeError, TypeError, ValueError) as error:
        raise BadOption(place, str(error), "see the reference") from None
    if action.choices is not None and read not in action.choices:
        there_are = ", ".join(map(str, action.choices))
        raise BadOption(place, f"{text} is not among its choices", f"there are {there_are}")


def read_words(command: str, words: Sequence[str], table: Table) -> argparse.Namespace:
    """Read options as the command does.

    Raises:
        BadOption: one cannot be understood; the error names the table.
    """

    class Parser(argparse.ArgumentParser):
        def error(self, message: str) -> NoReturn:
            raise BadOption(table.place(), message.removeprefix("argument "), "see the guide")

    parser = Parser(add_help=False, allow_abbrev=False)
    import_module(f"willow_cart.cli.{command}").add_options(parser)
    return parser.parse_args(words)


def _text_of(value: object) -> str:
    return value.isoformat() if isinstance(value, date | datetime) else str(value)
