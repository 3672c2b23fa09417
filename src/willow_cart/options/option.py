"""The definition of an option as a field, the values that are given for options, and requests.

From a field come the argument of the command line, the key of errands and settings, the keyword of
the Python function, the line in the reference, the entry in the JSON schema, and the shell
completion. All that is given becomes texts by the option's key, of which a request is made; so
nothing is understood in two ways, and a request can be written down again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime
from pathlib import Path
from types import MappingProxyType
from typing import Any, ClassVar, Self, dataclass_transform

import msgspec

from willow_cart.defaults import QUESTIONS
from willow_cart.errors import BadOption
from willow_cart.options.readers import few
from willow_cart.structs import Value, field, replace
from willow_cart.toml_file import Table


class Option(Value):
    """An option, or a positional argument.

    Attributes:
        dest: the name of the field; a name that Python reserves has `_` after it.
        help: one line, with `%(default)s` for the default.
        default: what its field holds where it is not given.
        read: makes a value of a text; raises ValueError or BadOption.
        metavar: represents the value in help.
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
    """Takes the options of a class out of its body, where they are the fields' defaults."""

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
        title: their subject, for help; empty for a command's first ones.
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
            for name in kind.__annotations__:
                group = defaults.get(name)
                if name in seen:
                    continue
                seen.add(name)
                if name in kind.own:
                    yield "", cls, (kind.own[name],)
                elif isinstance(group, Options):
                    options = (each for _, _, several in group.homes() for each in several)
                    yield name, type(group), tuple(options)

    @classmethod
    def by_key(cls) -> dict[str, Option]:
        """Return all options and arguments by their keys, arguments first."""
        return _by_key(cls.homes())


def _by_key(
    homes: Iterable[tuple[str, type[Options], tuple[Option, ...]]],
) -> dict[str, Option]:
    found = [each for _, _, options in homes for each in options]
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


Given = Mapping[str, tuple[str, ...]]
"""The texts of options by their keys; one that takes no value has one empty text."""

Fill = Callable[[str, str, str], str]
"""Makes the text of an option from what is given: the text, its key, and where it is."""


def given_in(
    table: Table,
    options: Mapping[str, Option],
    besides: Sequence[str] = (),
    fill: Fill = lambda text, _key, _place: text,
) -> dict[str, tuple[str, ...]]:
    """Read the options in a table.

    Args:
        table: keys and what is given for them.
        options: those that there are, by their keys.
        besides: keys that mean something else there.
        fill: what puts values in.

    Raises:
        BadOption: a key means nothing, or its value is of another type, or cannot be read.
    """
    table.require_known((*options, *besides))
    return {
        key: texts
        for key, value in table.keys.items()
        if key not in besides and (texts := _texts_of(options[key], value, table.place(key), fill))
    }


def _texts_of(option: Option, value: object, place: str, fill: Fill) -> tuple[str, ...]:
    """Return the texts for an option; none for a flag that is not set."""
    if option.is_flag:
        if not isinstance(value, bool):
            raise BadOption(place, "is yes or no", "write true or false")
        return ("",) if value else ()
    if isinstance(value, bool | dict):
        raise BadOption(place, "must be a text, a number or a list", "write it in quotes")
    several = value if isinstance(value, list | tuple) else [value]
    texts = [fill(_text_of(each), option.key, place) for each in several]
    given = texts if option.takes_several else [",".join(texts)]
    for text in given:
        _require_good(option, text, place)
    return tuple(given)


def _text_of(value: object) -> str:
    return value.isoformat() if isinstance(value, date | datetime) else str(value)


def _require_good(option: Option, text: str, place: str) -> None:
    """Refuse an invalid value, with its position.

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


def together(layers: Iterable[Given], options: Mapping[str, Option]) -> Given:
    """Merge layers of values, of which later ones take precedence.

    Texts of options that may be given several times add up; else the last one counts, also of
    options that exclude each other.

    Raises:
        BadOption: one layer gives two that exclude each other.
    """
    counts: dict[str, tuple[str, ...]] = {}
    for layer in layers:
        for key, texts in layer.items():
            for rival in _rivals_of(options[key], options):
                if rival in layer:
                    raise BadOption(
                        options[key].flag, f"does not go with {options[rival].flag}",
                        "leave out one of them",
                    )  # fmt: skip
                counts.pop(rival, None)
            counts[key] = (*counts.get(key, ()), *texts) if options[key].many else texts
    return counts


def _rivals_of(option: Option, options: Mapping[str, Option]) -> Iterator[str]:
    """Yield the keys of options that exclude an option."""
    if option.one_of:
        yield from (
            key for key, each in options.items() if each is not option
            and each.one_of == option.one_of
        )  # fmt: skip


def typed(given: Given, options: Mapping[str, Option]) -> Iterator[str]:
    """Yield the equivalent words of a command line."""
    for key, texts in given.items():
        option = options[key]
        if option.is_argument:
            continue
        for text in texts:
            yield option.flag if option.is_flag else f"{option.flag}={text}"
    arguments = [text for key, texts in given.items() if options[key].is_argument for text in texts]
    if any(text.startswith("-") and text != "-" for text in arguments):
        yield "--"
    yield from arguments


class Request(Options):
    """A request of a command.

    Attributes:
        command: its name.
        defaults: what stands for options that are not given, where that is not what their
            definition says.
        given: the texts that it was made of, settings not included.
        words: the words that were typed, or would be, the command first.
    """

    command: ClassVar[str] = ""
    defaults: ClassVar[Mapping[str, object]] = MappingProxyType({})
    given: Given = field(default_factory=dict)
    words: tuple[str, ...] = ()

    def __repr__(self) -> str:
        return f"<{type(self).__name__}>"  # what was typed may hold a secret

    @classmethod
    def read(cls, given: Given, settings: Given | None = None, words: tuple[str, ...] = ()) -> Self:
        """Make a request from the given values of its options.

        Args:
            given: texts by the keys of options and arguments.
            settings: used for options that are not given.
            words: the typed words; nothing for the words that would say the same.

        Raises:
            BadOption: options exclude each other.
            ValueError: as the readers of options do.
        """
        homes = [*cls.homes()]
        options = _by_key(homes)
        values: dict[str, Any] = dict(cls.defaults)
        for key, texts in together((settings or {}, given), options).items():
            values[options[key].dest] = _value_of(options[key], texts)
        fields: dict[str, Any] = {}
        for home, group, members in homes:
            own = {each.dest: values[each.dest] for each in members if each.dest in values}
            fields |= {home: group(**own)} if home else own
        return cls(**fields, given=given, words=words or (cls.command, *typed(given, options)))


def _value_of(option: Option, texts: tuple[str, ...]) -> object:
    if option.is_flag:
        return True
    if option.takes_several:
        return tuple(map(option.read, texts))
    (text,) = texts
    return option.const if option.const is not None and not text else option.read(text)
