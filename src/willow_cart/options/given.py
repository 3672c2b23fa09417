"""The given values of a command's options: texts, from any interface.

An option is typed, stands under its key in a table of an errand or of settings, or is a keyword of
a Python function. All of these become texts by the option's key, of which a request is made; so
nothing is understood in two ways, and a request can be written down again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime
from types import MappingProxyType
from typing import Any, ClassVar, Self

from willow_cart.errors import BadOption
from willow_cart.options import Option
from willow_cart.options.option import Options
from willow_cart.structs import field
from willow_cart.toml_file import Table

Given = Mapping[str, tuple[str, ...]]
"""The texts of options by their keys; one that takes no value has one empty text."""

Fill = Callable[[str, str, str], str]
"""Makes the text of an option from what is given: the text, its key, and where it stands."""


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

    @classmethod
    def read(cls, given: Given, settings: Given | None = None, words: tuple[str, ...] = ()) -> Self:
        """Make a request from the given values of its options.

        Args:
            given: texts by the keys of options and arguments.
            settings: what counts where nothing is given.
            words: what was typed; nothing for the words that would say the same.

        Raises:
            BadOption: options exclude each other.
            ValueError: as the readers of options do.
        """
        options = cls.by_key()
        values: dict[str, Any] = dict(cls.defaults)
        for key, texts in together((settings or {}, given), options).items():
            values[options[key].dest] = _value_of(options[key], texts)
        fields: dict[str, Any] = {}
        for home, group, members in cls.homes():
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
