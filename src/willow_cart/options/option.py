"""The definition of an option as a field, with everything its interfaces need.

From a field come the argument of the command line, the key of errands and settings, the keyword of
the Python function, the line in the reference, the entry in the JSON schema, and what shells
complete.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, ClassVar, dataclass_transform

import msgspec

from willow_cart.defaults import QUESTIONS
from willow_cart.options.readers import few
from willow_cart.structs import Value, replace


class Option(Value):
    """An option, or a positional argument.

    Attributes:
        dest: the name of the field; a name that Python reserves has `_` behind it.
        help: one line, with `%(default)s` for the default.
        default: what its field holds where it is not given.
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
    return Option(
        "",
        text,
        default,
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
    return Option(
        "",
        text,
        default,
        read,
        metavar or "|".join(choices),
        tuple(choices),
        is_argument=True,
        nargs=nargs,
    )


def flag(text: str, *, one_of: str = "") -> Any:
    """Return a field for an option without a value; see `Option`."""
    return Option("", text, default=False, is_flag=True, one_of=one_of)


class _OptionsType(msgspec.StructMeta):
    """Takes the options of a class out of its body, where they stand as the fields' defaults."""

    own: Mapping[str, Option]

    def __new__(
        mcs, name: str, bases: tuple[type, ...], body: dict[str, Any], **config: Any
    ) -> _OptionsType:
        own = {dest: value for dest, value in body.items() if isinstance(value, Option)}
        defaults = {dest: option.default for dest, option in own.items()}
        made = super().__new__(mcs, name, bases, {**body, **defaults}, **config)
        made.own = {dest: replace(option, dest=dest) for dest, option in own.items()}
        return made


@dataclass_transform(frozen_default=True, kw_only_default=True)
class Options(msgspec.Struct, metaclass=_OptionsType, frozen=True):
    """Values of options: a group that is passed on as it is, or a request, which has groups.

    Attributes:
        title: what they are about, for help; empty for a command's first ones.
        text: a sentence about all of them; empty for none.
        own: the options that the class defines, by their fields.
    """

    title: ClassVar[str] = ""
    text: ClassVar[str] = ""

    @classmethod
    def homes(cls) -> Iterator[tuple[str, type[Options], tuple[Option, ...]]]:
        """Yield the options in their order, by the fields whose groups hold them.

        Yields:
            The field, the class of its group, and options; the field is empty for the class itself.
        """
        seen: set[str] = set()
        required = len(cls.__struct_fields__) - len(cls.__struct_defaults__)
        defaults = dict(zip(cls.__struct_fields__[required:], cls.__struct_defaults__, strict=True))
        for kind in cls.__mro__:
            if not isinstance(kind, _OptionsType):
                continue
            for field in kind.__annotations__:
                group = defaults.get(field)
                if field in seen:
                    continue
                seen.add(field)
                if field in kind.own:
                    yield "", cls, (kind.own[field],)
                elif isinstance(group, Options):
                    options = (each for _, _, several in group.homes() for each in several)
                    yield field, type(group), tuple(options)

    @classmethod
    def by_key(cls) -> dict[str, Option]:
        """Return all options and arguments by their keys, arguments first."""
        found = [each for _, _, options in cls.homes() for each in options]
        return {each.key: each for each in sorted(found, key=lambda each: not each.is_argument)}


SOURCES = argument(
    (),
    str,
    "the address of a file, a page, a folder, a feed, a sitemap or a bucket; a list of "
    "addresses, a CSV table with a url column, a cart or a saved page; or - for standard "
    "input. Addresses may contain ranges: {2018..2031}, {01..12}, {a,b}",
    metavar="SOURCE",
    nargs="+",
)

CART = argument(Path(), Path, "a cart written by load", metavar="CART")

FOLDER = argument(
    Path(), Path, "a folder that was hauled into (the current one)", metavar="DIR", nargs="?"
)

OVERWRITE = flag("replace an existing file, even if Willow Cart did not write it")

WRITE_ERRAND = option(
    None, Path, "write this command as an errand to a file, to run it again", metavar="FILE"
)

JSON = flag("print JSON", one_of="form")
CSV = flag("print CSV", one_of="form")

LANES = option(
    QUESTIONS,
    few,
    "number of folders that are listed, and of sizes that are requested, at a time (%(default)s)",
    metavar="N",
)
