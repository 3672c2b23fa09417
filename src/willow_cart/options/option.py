"""The definition of an option as a field of a request, with everything its interfaces need.

From a field come the argument of the command line, the key of errands and settings, the keyword of
the Python function, the line in the reference, the entry in the JSON schema, and what shells
complete.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar, dataclass_transform

_OPTION = "option"

Some = TypeVar("Some")


@dataclass(frozen=True, slots=True)
class Option:
    """An option, or a positional argument.

    Attributes:
        dest: the name of the field; a name that Python reserves has `_` behind it.
        help: one line, with `%(default)s` for the default.
        default: as the command line would give it; a list of none for one that is given several
            times.
        read: makes a value of a text; raises ValueError or BadOption.
        metavar: what stands for the value in help.
        choices: the texts that it takes; empty for any.
        many: whether it may be given several times.
        is_argument: whether it has no name on the command line.
        is_flag: whether it takes no value.
        is_required: whether it must be given.
        nargs: how many values an argument takes, as argparse writes it; None for one.
        const: the value where it is given without one; None where it must have one.
        one_of: what it is an alternative to: options of a command with the same word exclude each
            other; empty for none.
        keyword: the type of its keyword in Python; empty for the usual one.
    """

    dest: str
    help: str
    default: Any = None
    read: Callable[[str], Any] = str
    metavar: str = ""
    choices: tuple[str, ...] = ()
    many: bool = False
    is_argument: bool = False
    is_flag: bool = False
    is_required: bool = False
    nargs: str | int | None = None
    const: Any = None
    one_of: str = ""
    keyword: str = ""

    @property
    def key(self) -> str:
        """Return its name in errands, settings and Python."""
        return self.dest.rstrip("_")

    @property
    def flag(self) -> str:
        """Return its name on the command line."""
        return f"--{self.key.replace('_', '-')}"

    @property
    def takes_several(self) -> bool:
        """Whether its value is a list."""
        return self.many or self.nargs in ("+", "*", 1)

    @property
    def is_secret(self) -> bool:
        """Whether it refers to a secret; its value must never be the secret itself."""
        return self.metavar.startswith("env:")

    @property
    def text(self) -> str:
        """Return its help text with the default filled in."""
        return self.help % {"default": self.default, "prog": "willow-cart"}


def option(
    default: Any,
    read: Callable[[str], Any],
    text: str,
    *,
    metavar: str = "",
    choices: Sequence[str] = (),
    many: bool = False,
    required: bool = False,
    nargs: str | int | None = None,
    const: Any = None,
    one_of: str = "",
    keyword: str = "",
) -> Any:
    """Return a field for an option with a value; see `Option`."""
    made = Option(
        "",
        text,
        [] if many else default,
        read,
        metavar or "|".join(choices),
        tuple(choices),
        many,
        is_required=required,
        nargs=nargs,
        const=const,
        one_of=one_of,
        keyword=keyword,
    )
    return dataclasses.field(default=default, metadata={_OPTION: made})


def argument(
    default: Any,
    read: Callable[[str], Any],
    text: str,
    *,
    metavar: str = "",
    choices: Sequence[str] = (),
    nargs: str | int | None = None,
) -> Any:
    """Return a field for a positional argument; see `Option`."""
    made = Option(
        "",
        text,
        default,
        read,
        metavar or "|".join(choices),
        tuple(choices),
        is_argument=True,
        nargs=nargs,
    )
    return dataclasses.field(default=default, metadata={_OPTION: made})


def flag(text: str, *, one_of: str = "") -> Any:
    """Return a field for an option without a value; see `Option`."""
    made = Option("", text, default=False, is_flag=True, one_of=one_of)
    return dataclasses.field(default=False, metadata={_OPTION: made})


@dataclass_transform(frozen_default=True, kw_only_default=True)
def option_group(group: type[Some]) -> type[Some]:
    """Make a class a group of options that requests can inherit.

    A group is never made by itself, and what it does not need takes half of the time of a command
    that is over at once.
    """
    make = dataclass(frozen=True, kw_only=True, init=False, repr=False, eq=False)
    return make(group)


def groups_of(request: type) -> Mapping[type, tuple[Option, ...]]:
    """Return the options of a request by the class that defines them, in order."""
    fields = {field.name: field for field in dataclasses.fields(request)}
    found = {}
    for group in request.__mro__:
        names = [name for name in vars(group).get("__annotations__", ()) if name in fields]
        own = [fields.pop(name) for name in names]
        options = [
            dataclasses.replace(field.metadata[_OPTION], dest=field.name)
            for field in own
            if _OPTION in field.metadata
        ]
        if options:
            found[group] = tuple(options)
    return found
