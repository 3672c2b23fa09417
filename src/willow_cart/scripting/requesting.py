"""What the Python functions share: making requests, hearing messages, raising what is missing."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from importlib.util import find_spec
from os import PathLike, fspath
from threading import Event as Flag
from typing import TYPE_CHECKING, BinaryIO, NoReturn, TypeVar, cast

from willow_cart.cart.cart import Cart
from willow_cart.commands.request import LookingRequest
from willow_cart.commands.settings import settings_for
from willow_cart.commands.table import NOT_KEYWORDS, options_of_command
from willow_cart.errors import BadOption, Exit, Incomplete
from willow_cart.model import Offer
from willow_cart.observer import stopped_by_signals
from willow_cart.options.option import Given, Request, given_in
from willow_cart.scripting.wording import in_python
from willow_cart.sign_in.secrets import Secret, refer_to
from willow_cart.toml_file import Table
from willow_cart.units import printable
from willow_cart.views.words import Reporter

if TYPE_CHECKING:
    import pandas as pd

    Source = str | PathLike[str] | Iterable[Offer | str | PathLike[str]] | pd.DataFrame


RETRY = "call it again to retry, or use must_arrive=False to get what arrived"
"""The advice where another call fetches what is missing."""


def incomplete(
    done: object, what: str, why: str, troubles: Sequence[str], *, advice: str, exit_code: Exit
) -> Incomplete:
    """Return the error.

    Args:
        done: the result, which the error holds.
        what: the folder, file or archives it is about.
        why: the problem, without an example.
        troubles: what is wrong with each file; the first is the example.
        advice: what to do.
        exit_code: of the command.
    """
    example = f", such as {troubles[0]}" if troubles else ""
    return Incomplete(what, f"{why}{example}", advice, result=done, exit_code=exit_code)


Asked = TypeVar("Asked", bound=Request)
Looked = TypeVar("Looked", bound=LookingRequest)


def given_by_arguments(**arguments: object) -> Given:
    """Return the option texts for a function's own arguments.

    Args:
        arguments: what is given for them: True for a flag, a text or a path, or several; None and
            False for what is not given.
    """
    return {
        key: _texts(value)
        for key, value in arguments.items()
        if value is not None and value is not False  # 0 is given
    }


def _texts(value: object) -> tuple[str, ...]:
    if value is True:
        return ("",)
    several = value if isinstance(value, tuple) else (value,)
    return tuple(map(str, several))


def read_looking(
    kind: type[Looked],
    sources: Sequence[Source],
    options: Mapping[str, object],
    more: Given | None = None,
) -> tuple[Looked, list[Offer]]:
    """Return the request, and the offers among the sources.

    Raises:
        BadOption: there are no sources, or one is invalid.
    """
    named: list[str] = []
    offers: list[Offer] = []
    for source in sources:
        if hasattr(source, "itertuples"):
            offers += Cart.from_frame(cast("pd.DataFrame", source))
            continue
        for each in [source] if isinstance(source, str | PathLike) else _each_of(source, kind):
            if isinstance(each, Offer):
                offers.append(each)
            elif isinstance(each, str | PathLike):
                named.append(fspath(each))
            else:
                raise _no_source(each, kind)
    if not sources:
        raise BadOption(f"{kind.command}()", "has no source", "give an address or a list")
    given = {**(more or {}), "sources": tuple(named)}
    return read_request(kind, options, given), offers


def _each_of(source: object, kind: type[Request]) -> Iterable[object]:
    if not isinstance(source, Iterable):
        raise _no_source(source, kind)
    return source


def _no_source(source: object, kind: type[Request]) -> BadOption:
    return BadOption(
        f"{kind.command}()", f"takes no {type(source).__name__}", "give addresses, paths or offers"
    )


def read_request(kind: type[Asked], options: Mapping[str, object], given: Given) -> Asked:
    """Make a request from keywords and a function's own arguments.

    Raises:
        BadOption: a keyword is not known, or cannot be read.
    """
    name = f"{kind.command}()"
    keys = {
        key.rstrip("_"): refer_to(value) if isinstance(value, Secret) else value
        for key, value in options.items()
        if value is not None
    }
    known = {
        key: option
        for key, option in options_of_command(kind.command).items()
        if key not in NOT_KEYWORDS
    }
    keywords = given_in(
        Table(name, name, keys, advice=f"see help(willow_cart.{kind.command})"), known
    )
    return kind.read({**keywords, **given}, settings_for(kind.command))


class Listener(Reporter):
    """An observer that collects messages.

    Args:
        progress: whether the progress of hauls is shown, as bars where they can be drawn.

    Attributes:
        notes: the lines.
    """

    def __init__(self, *, progress: bool = False) -> None:
        self.notes: list[str] = []
        self._shows = progress
        draws = progress and (in_notebook() or sys.stderr.isatty())
        if progress:
            super().__init__(self._keep, shown=_say, draws=draws)
        else:
            super().__init__(self._keep, every=None)

    def sum_up(self, line: str) -> None:
        """Write the last line about a haul whose progress is shown; notebooks show the result."""
        if self._shows and not in_notebook():
            _say(line)

    def _keep(self, line: str) -> None:
        self.notes.append(in_python(printable(line)))

    def stoppable(self) -> AbstractContextManager[Flag]:
        """Return an event that the first interrupt sets; a second one raises KeyboardInterrupt."""
        return stopped_by_signals(_interrupt)

    def standard_input(self) -> BinaryIO | None:
        """Return the stream that `-` refers to among the sources."""
        return None if sys.stdin is None else sys.stdin.buffer


def _say(line: str) -> None:
    """Write a line where the progress of a script goes."""
    sys.stderr.write(f"{printable(line)}\n")


def _interrupt() -> NoReturn:
    raise KeyboardInterrupt


def in_notebook() -> bool:
    """Whether this runs in a notebook that can draw bars."""
    return "ipykernel" in sys.modules and find_spec("ipywidgets") is not None
