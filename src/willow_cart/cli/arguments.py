"""Convert the option table to arguments of argparse."""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from willow_cart.cli.screen import show_text
from willow_cart.commands.table import Command
from willow_cart.errors import BadOption
from willow_cart.options import Option
from willow_cart.options.option import Given
from willow_cart.platform import processes
from willow_cart.structs import Value

_DEMO = "http://127.0.0.1:8031"


class Everyday(Value):
    """The short help of a command.

    Attributes:
        options: the keys of about ten options, in the order of their use.
        examples: command lines without the name of the program.
    """

    options: tuple[str, ...]
    examples: tuple[str, ...]


EVERYDAY: Mapping[str, Everyday] = {
    "survey": Everyday(
        ("depth", "ext", "keep", "drop", "kind", "since", "ask_sizes", "tree", "folders", "why"),
        (
            f"survey {_DEMO}/hides/2031.html --column Recording",
            f"survey {_DEMO}/archive/ --depth all --tree",
            f"survey {_DEMO}/sounds/ --depth all --ext wav --at-most 200kB",
        ),
    ),
    "peek": Everyday(
        ("rows", "skip_lines", "json", "user", "password", "token"),
        (
            f"peek {_DEMO}/archive/2029/spring/hide_counts.csv",
            f"peek {_DEMO}/recordings/dawn_20310503.wav",
            f"peek {_DEMO}/maps/reedbeds.zip --rows 20",
        ),
    ),
    "load": Everyday(
        ("cart", "add", "depth", "ext", "keep", "drop", "kind", "since", "at_most", "ask_sizes"),
        (
            f"load {_DEMO}/sounds/ --depth all --ask-sizes --cart sounds.csv",
            f"load {_DEMO}/hides/2031.html --cart sounds.csv --add",
            f"load {_DEMO}/archive/ --depth all --ext csv --cart counts.csv",
        ),
    ),
    "pick": Everyday(
        ("only", "out", "back", "swap", "undo", "ext", "keep", "since", "at_most", "prefer"),
        ("pick sounds.csv", "pick sounds.csv --only --ext wav", "pick sounds.csv --undo"),
    ),
    "weigh": Everyday(
        ("speed", "drives", "shares", "into", "figure", "ask_sizes", "json"),
        (
            "weigh sounds.csv",
            "weigh sounds.csv --speed 2MB/s",
            "weigh sounds.csv --drives 500kB,1MB",
        ),
    ),
    "haul": Everyday(
        (
            "into", "depth", "ext", "keep", "drop", "since", "layout", "unpack", "checksums",
            "preview",
        ),
        (
            f"haul {_DEMO}/sounds/ --depth all --ext wav --into sounds",
            f"haul {_DEMO}/archive/ --depth all --keep '*_counts.csv' --into counts",
            f"haul '{_DEMO}/recordings/dawn_203105{{03,10,17,24}}.wav' --into dawns",
        ),
    ),
    "unpack": Everyday(
        (
            "into", "unpack_to", "inside", "strip_top", "nested", "archives", "keep",
            "unpacked_at_most",
        ),
        (
            "unpack data",
            "unpack data --inside '*.csv' --strip-top",
            "unpack season.zip --into season",
        ),
    ),
    "combine": Everyday(
        (
            "to", "table", "preview", "start_over", "strict", "skip_lines", "columns", "name_parts",
            "encoding", "keep",
        ),
        (
            "combine levels --preview",
            "combine levels --keep 'level_203105??.csv' --to levels.sqlite",
            "combine levels --to levels.parquet --strict",
        ),
    ),
    "pack": Everyday(
        ("to", "keep", "drop", "ext", "since"),
        ("pack levels --to levels.zip", "pack levels --ext csv --to levels.tar.gz"),
    ),
    "audit": Everyday(
        ("upstream", "checksums", "repair", "quick", "inspect", "json"),
        ("audit levels", "audit levels --upstream", "audit levels --repair"),
    ),
    "offline": Everyday(
        ("into", "depth", "also", "keep", "drop", "warc", "lanes_per_host", "gap"),
        (
            f"offline {_DEMO}/guide/ --into guide --depth all",
            f"offline {_DEMO}/hides/2031.html --into hides",
        ),
    ),
    "errand": Everyday(
        ("preview", "set", "from", "summary", "new", "depth", "ext", "keep", "user", "password"),
        (
            f"errand counts.toml --new {_DEMO}/archive/ --depth all --ext csv",
            "errand counts.toml --preview",
            "errand counts.toml --summary counts.json",
        ),
    ),
    "knock": Everyday(
        ("user", "password", "token", "account_key", "endpoint", "ca", "json"),
        (f"knock {_DEMO}/archive/", f"knock {_DEMO}/sounds/ --json"),
    ),
}  # fmt: skip
"""By command; others have so few options that all of them are shown."""


def add_arguments(parser: argparse.ArgumentParser, command: Command) -> None:
    """Add the arguments of a command to a parser; values stay text, and there are no defaults."""
    for argument in command.arguments():
        _add(parser, argument)
    for group in command.groups():
        within: argparse._ActionsContainer = parser
        if group.title:
            within = parser.add_argument_group(group.title, group.text or None)
        _add_all(within, group.options)


def usage_of(prog: str, command: Command) -> str:
    """Return the usage of a command: its arguments and required options."""
    words = [prog, command.name]
    for each in command.arguments():
        name = each.metavar or each.dest
        optional = each.nargs in ("?", "*")
        several = "..." if each.nargs in ("+", "*") else ""
        words.append(f"[{name}{several}]" if optional else f"{name}{several}")
    words += (f"{each.flag} {each.metavar}" for each in command.options() if each.is_required)
    return " ".join([*words, "[options]"])


def make_short_help(prog: str, command: Command) -> str:
    """Return the help of a command on one screen: its everyday options, and examples.

    Args:
        prog: the program's name.
    """
    everyday = EVERYDAY[command.name]
    options = command.by_key()
    parser = argparse.ArgumentParser(
        prog=prog,
        usage=usage_of(prog, command),
        add_help=False,
        description=command.description,
    )
    shown = parser.add_argument_group("everyday options")
    for key in everyday.options:
        _add(shown, options[key])
    more = len(options) - len(everyday.options)
    lines = [
        parser.format_help().rstrip(),
        "",
        "examples, while willow-cart demo --serve runs:",
        *(f"  {prog} {example}" for example in everyday.examples),
        "",
        f"{prog} {command.name} --help all has {more} more options, by group;",
        f"{prog} help WORDS finds what the guide says of them",
    ]
    return "\n".join(lines)


class HelpAction(argparse.Action):
    """Prints the help of a command: on one screen, or all of it with `--help all`.

    Args:
        short: makes the short one; None where all of it is short.
    """

    def __init__(self, *arguments: Any, short: Callable[[], str] | None, **more: Any) -> None:
        super().__init__(*arguments, **more)
        self._short = short

    def __call__(
        self,
        parser: argparse.ArgumentParser,
        _namespace: argparse.Namespace,
        values: Any,
        _option: str | None = None,
    ) -> None:
        """Print it and exit."""
        if self._short is None or values == "all":
            parser.print_help()
        else:
            show_text(self._short())
        parser.exit()


MARK = "WILLOW_CART_GOES_ON"
"""The variable by which a process knows that it goes on for another one, and with what."""


def typed_words() -> list[str]:
    """Return the words of the command: those that were typed, or handed over."""
    if MARK in os.environ:
        sys.argv[1:] = json.loads(processes.handed_over(os.environ[MARK]))
    return sys.argv[1:]


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
