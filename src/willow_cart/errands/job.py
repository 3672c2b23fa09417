"""Read the document of an errand, and turn it into a job: values filled in, requests made."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TypeVar

from willow_cart.commands.haul import HaulRequest
from willow_cart.commands.load import LoadRequest
from willow_cart.commands.settings import settings_for
from willow_cart.commands.table import COMMANDS, STEPS, options_of
from willow_cart.errands.memory import LAST_RUN
from willow_cart.errands.values import Values
from willow_cart.errors import BadOption
from willow_cart.options import Option
from willow_cart.options.option import Given, Request, given_in, typed
from willow_cart.platform import processes
from willow_cart.redaction import fingerprint
from willow_cart.structs import Value, replace
from willow_cart.toml_file import Table, TomlFile

TEXTS = ("into", "cart", "note", "gone", "on_failure", "mail_to", "mail_when")
"""The keys of an errand before its first table."""

GONE = ("keep", "aside")
"""What to do with files that are no longer offered."""

NUMBERS = ("expect_new",)
"""As above, as a number."""

MAIL_WHEN = ("failure", "always")
"""When a mail is sent."""

_TABLES = ("values", "sign_in", "connecting", "haul", "filing")
_LISTS = ("source", "step")


class Document(Value):
    """The content of an errand's file.

    Attributes:
        top: what precedes the first table: `into`, and perhaps `cart`, `note`, `gone`,
            `expect_new`, `on_failure`, `mail_to` and `mail_when`.
        values: what changes from run to run.
        sign_in: sign-ins by their names, as in the config file.
        connecting, haul, filing: options for all sources.
        sources: where the files come from.
        steps: the steps, in order.
    """

    path: Path
    top: Table
    values: Table
    sign_in: Table
    connecting: Table
    haul: Table
    filing: Table
    sources: tuple[Table, ...]
    steps: tuple[Table, ...]

    @property
    def expect_new(self) -> int:
        """How many new files a run must bring."""
        number = self.top.keys.get("expect_new", 0)
        return number if isinstance(number, int) else 0


def read_document(path: Path) -> Document:
    """Read an errand.

    Raises:
        BadOption: it cannot be read, or has something in it that means nothing.
    """
    file = TomlFile(path, "name an errand")
    top = file.top("the errand")
    content = file.content
    Table(top.title, top.file, content, top.lines).require_known(
        (*TEXTS, *NUMBERS, *_TABLES, *_LISTS)
    )
    for key in TEXTS:
        if not isinstance(content.get(key, ""), str):
            raise BadOption(top.place(key), "not text", "write it in quotes")
        if not str(content.get(key, "")).isprintable():
            raise BadOption(top.place(key), "has more than one line", "write one line")
    for key, values in (("gone", GONE), ("mail_when", MAIL_WHEN)):
        if content.get(key, values[0]) not in values:
            raise BadOption(top.place(key), "not a valid value", f"write {' or '.join(values)}")
    for key in NUMBERS:
        number = content.get(key, 0)
        if type(number) is not int or number < 0:
            raise BadOption(top.place(key), "not a whole number from 0 up", "write 1, for example")
    if not content.get("into"):
        raise BadOption(str(path), "has no destination", 'write into = "FOLDER" at its top')
    tables = {name: file.table(name) for name in _TABLES}
    lists = {name: tuple(file.tables(name)) for name in _LISTS}
    if not lists["source"]:
        raise BadOption(str(path), "has no source", "write one as [[source]] with from = ...")
    return Document(path, top, **tables, sources=lists["source"], steps=lists["step"])


Asked = TypeVar("Asked", bound=Request)

# The keys of a source that choose by name.
_BY_NAME = ("ext", "kind", "keep", "drop", "keep_re", "drop_re")


class Source(Value):
    """A source with its options.

    Attributes:
        name: the source of its files, for messages; empty for the address.
        request: how it is listed, with the rules.
        mark: distinguishes it from every other, and from itself if it were to choose otherwise.
        since_last_run: whether only files since the last run are chosen.
    """

    name: str
    request: LoadRequest
    mark: str
    since_last_run: bool = False


class Step(Value):
    """A step after the haul.

    Attributes:
        number: its number, from 1.
        what: one of `STEPS`.
        request: of the command; None for a program of the user's own.
        words: the equivalent command line.
    """

    number: int
    what: str
    request: Request | None
    words: Sequence[str]

    def __str__(self) -> str:
        return f"step {self.number}, {self.what}"

    @property
    def typed(self) -> str:
        """Return the equivalent command line."""
        program = [] if self.request is None else ["willow-cart"]
        return shlex.join([*program, *self.words])


class Job(Value):
    """An errand with its values filled in.

    Attributes:
        into: where everything goes.
        sources: where it comes from.
        haul: how it is fetched.
        steps: the steps.
    """

    into: str
    sources: Sequence[Source]
    haul: HaulRequest
    steps: Sequence[Step]


def make_job(document: Document, values: Values, last: datetime | None = None) -> Job:
    """Fill in the values, and make a request of each table.

    Args:
        document: the errand as it is written.
        values: those of this run.
        last: when the last good run began; None if there was none.

    Raises:
        BadOption: something in it means nothing.
    """
    into = values.fill(str(document.top.keys["into"]), document.top.place("into"))
    connecting = _given(document.connecting, values, options_of("connecting"))
    sources = [
        replace(
            _make_source(_with_last_run(table, last), variant, connecting),
            since_last_run=table.keys.get("since") == LAST_RUN and last is not None,
        )
        for table in document.sources
        for variant in values.variants(_texts_in(table))
    ]
    steps = [
        _make_step(number, table, values, into, document.sources)
        for number, table in enumerate(document.steps, 1)
    ]
    return Job(into, sources, _make_haul(document, values, into, connecting, sources), steps)


def _make_haul(
    document: Document, values: Values, into: str, connecting: Given, sources: Sequence[Source]
) -> HaulRequest:
    """Make the request for the haul, without sources."""
    top = {
        key: (values.fill(str(document.top.keys[key]), document.top.place(key)),)
        for key in ("note", "cart")
        if document.top.keys.get(key)
    }
    layers = (
        _given(document.haul, values, options_of("haul")),
        _given(document.filing, values, options_of("filing")),
        top,
        connecting,
        {"into": (into,)},
    )
    request = _read(HaulRequest, layers, document.haul, settings_for("haul"))
    opens = any(source.request.looking.as_ == "archive" for source in sources)
    return replace(request, looking=replace(request.looking, as_="archive" if opens else None))


def _read(
    kind: type[Asked],
    layers: Sequence[Given],
    table: Table,
    settings: Given | None = None,
    words: Sequence[str] = (),
) -> Asked:
    """Make a request from tables.

    Raises:
        BadOption: two of them exclude each other; the error names the table.
    """
    # No table counts more than another, so what two of them give adds up.
    given: dict[str, tuple[str, ...]] = {}
    for layer in layers:
        for key, texts in layer.items():
            given[key] = (*given.get(key, ()), *texts)
    try:
        return kind.read(given, settings, tuple(words))
    except BadOption as error:
        raise BadOption(table.place(), f"{error.thing} {error.reason}", error.advice) from None


def _with_last_run(table: Table, last: datetime | None) -> Table:
    """Return a source restricted to files since the last run; unrestricted at the first."""
    if table.keys.get("since") != LAST_RUN:
        return table
    others = {key: value for key, value in table.keys.items() if key != "since"}
    # A file that was put up while the last run was looking may have been missed by it.
    return replace(table, keys=others if last is None else {**others, "since": last.isoformat()})


def _make_source(table: Table, values: Values, connecting: Given) -> Source:
    at = table.keys.get("from")
    addresses = [at] if isinstance(at, str) else at
    if not isinstance(addresses, list) or not addresses:
        raise BadOption(table.place("from"), "has no address", 'write from = "ADDRESS"')
    filled = [values.fill(str(each), table.place("from")) for each in addresses]
    options = options_of("source")
    own = _given(table, values, options, besides=("from", "name"))
    layers = (connecting, own, {"sources": tuple(filled)})
    request = _read(LoadRequest, layers, table, settings_for("load"))
    name = values.fill(str(table.keys.get("name", "")), table.place("name"))
    choosing = [word for word in typed(own, options) if not word.startswith("--since=")]
    return Source(name, request, fingerprint("\n".join([name, *filled, *choosing])))


def _make_step(
    number: int, table: Table, values: Values, into: str, sources: Sequence[Table]
) -> Step:
    """Make the request of a step from its table."""
    named = [what for what in STEPS if what in table.keys]
    if len(named) != 1:
        reason = f"has several actions: {' and '.join(named)}" if named else "has no action"
        raise BadOption(table.place(), reason, f"name one of {', '.join(STEPS)}")
    what = named[0]
    about = table.keys[what]
    texts = [about] if isinstance(about, str) else about
    if not isinstance(texts, list) or not texts:
        raise BadOption(table.place(what), "not text", "write it in quotes")
    filled = [values.fill(str(each), table.place(what)) for each in texts]
    if what == "run":
        table.require_known(("run",))
        return Step(number, what, None, processes.words_of(filled[0]))
    options = options_of(what)
    by_name = tuple(key for key in _BY_NAME if (what, key) != ("unpack", "keep"))
    about_what = {"unpack": "keep", "receipt": "html"}.get(what, "to")
    layers: tuple[Given, ...] = (
        _given(table, values, options, besides=(what, "of")),
        _inherited(table, values, options, sources, by_name),
        {about_what: tuple(filled if what == "unpack" else filled[:1])},
    )
    command = COMMANDS[what]
    words = [what, into]
    for layer in layers:
        words += typed(layer, command.by_key())
    folder = {next(command.arguments()).key: (into,)}
    request = _read(command.request, (*layers, folder), table, words=words)
    return Step(number, what, request, words)


def _inherited(
    table: Table,
    values: Values,
    options: Mapping[str, Option],
    sources: Sequence[Table],
    by_name: Sequence[str],
) -> Given:
    """Return what a step inherits from a source, so that patterns are written once.

    From the source that `of` names, or from the only one, unless the step chooses itself. Patterns
    with a slash are about the folders there, which may be others here. The archives of an
    unpacking step are those that it names, so no patterns are added to them.

    Raises:
        BadOption: no such source.
    """
    named = [each for each in sources if each.keys.get("name") == table.keys.get("of")]
    if "of" in table.keys and not named:
        raise BadOption(table.place("of"), "not the name of a source", "give one a name")
    if "of" not in table.keys:
        named = list(sources[:1]) if len(sources) == 1 else []
    if not named or "keep" not in options or any(key in table.keys for key in _BY_NAME):
        return {}
    source = named[0]
    taken = {
        key: value
        for key, value in source.keys.items()
        if key in by_name and not any("/" in text for text in _texts_of(value))
    }
    # Where a list makes several sources, a step is about all of them.
    variants = values.variants([text for value in taken.values() for text in _texts_of(value)])
    each = [_given(replace(source, keys=taken), variant, options) for variant in variants]
    return {
        key: tuple(dict.fromkeys(text for given in each for text in given.get(key, ())))
        for key in taken
    }


def _texts_of(value: object) -> list[str]:
    return [str(each) for each in (value if isinstance(value, list) else [value])]


def _texts_in(table: Table) -> list[str]:
    """Yield the texts in a table that may refer to values."""
    return [text for value in table.keys.values() for text in _texts_of(value)]


def _given(
    table: Table,
    values: Values,
    options: Mapping[str, Option],
    besides: Sequence[str] = (),
) -> Given:
    """Return the content of a table with the values filled in."""

    def fill(text: str, key: str, place: str) -> str:
        # Fields of templates and of commands are no values, and stay.
        return values.fill(text, place, leave=_has_fields(key))

    return given_in(table, options, besides, fill)


def _has_fields(key: str) -> bool:
    return key in ("file_as", "unpack_to", "on_arrival", "endpoint", "name_parts") or "_re" in key
