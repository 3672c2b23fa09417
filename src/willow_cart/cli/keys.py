"""Options by their keys, as errands, settings and scripts give them instead of typing them.

A key is an option's name with `_` for `-`. Whatever is given so is turned into what would be typed
and read by the command's own parser, so that nothing is understood in two ways.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from typing import NoReturn, TypeVar

from willow_cart.cli.arguments import add_arguments
from willow_cart.errands.document import Table
from willow_cart.errors import BadOption
from willow_cart.jobs import COMMANDS, Option
from willow_cart.jobs.requests import Request

Asked = TypeVar("Asked", bound=Request)

Fill = Callable[[str, str, str], str]
"""Makes the text of an option from what is given: the text, its key, and where it stands."""


def words_of(
    table: Table,
    options: Mapping[str, Option],
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
        option, place = options[key], table.place(key)
        if option.is_flag:
            if not isinstance(value, bool):
                raise BadOption(place, "is yes or no", "write true or false")
            words += [option.flag] if value else []
            continue
        if isinstance(value, bool | dict):
            raise BadOption(place, "is neither text, number nor list", "write it in quotes")
        several = value if isinstance(value, list | tuple) else [value]
        filled = [fill(_text_of(each), key, place) for each in several]
        given = filled if option.many else [",".join(filled)]
        for text in given:
            _require_good(option, text, place)
        words += [f"{option.flag}={text}" for text in given]
    return words


def _require_good(option: Option, text: str, place: str) -> None:
    """Refuse what the option does not take, with the place where it stands.

    Raises:
        BadOption: it is such.
    """
    try:
        option.read(text)
    except (BadOption, ValueError) as error:
        raise BadOption(place, str(error), "see the reference") from None
    if option.choices and text not in option.choices:
        there_are = ", ".join(option.choices)
        raise BadOption(place, f"{text} is not among its choices", f"there are {there_are}")


def read_words(kind: type[Asked], words: Sequence[str], table: Table) -> Asked:
    """Make a request of words, as the command line does.

    Args:
        kind: what is asked for.
        words: what would be typed behind the command.
        table: what they were made of, for messages.

    Raises:
        BadOption: one cannot be understood; the error names the table.
    """

    class Parser(argparse.ArgumentParser):
        def error(self, message: str) -> NoReturn:
            raise BadOption(table.place(), message.removeprefix("argument "), "see the guide")

    parser = Parser(add_help=False, allow_abbrev=False)
    add_arguments(parser, COMMANDS[kind.command])
    return kind.from_values(vars(parser.parse_args(words)), [kind.command, *words])


def _text_of(value: object) -> str:
    return value.isoformat() if isinstance(value, date | datetime) else str(value)
