"""An errand as a job: its values put in, and every table turned into the options of its command."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING

from willow_cart.cli.keys import read_words, words_of
from willow_cart.cli.preferring import preferred
from willow_cart.errands.memory import LAST_RUN
from willow_cart.errors import BadOption
from willow_cart.jobs import COMMANDS, Option
from willow_cart.jobs.haul import HaulRequest
from willow_cart.jobs.load import LoadRequest
from willow_cart.jobs.tables import STEPS, options_of
from willow_cart.redaction import fingerprint

if TYPE_CHECKING:
    from willow_cart.errands import Document, Table, Values

# The keys of a source that choose by name.
_BY_NAME = ("ext", "kind", "keep", "drop", "keep_re", "drop_re")


@dataclass(frozen=True, slots=True)
class Source:
    """A source with its options.

    Attributes:
        name: what its files are said to be from; empty for the address.
        request: how it is looked at, and what is chosen.
        mark: tells it from every other, and from itself if it were to choose otherwise.
    """

    name: str
    request: LoadRequest
    mark: str


@dataclass(frozen=True, slots=True)
class Step:
    """What is done with arrivals.

    Attributes:
        number: its place, from 1.
        what: one of `STEPS`.
        words: of a command, as they would be typed.
    """

    number: int
    what: str
    words: Sequence[str]

    def __str__(self) -> str:
        return f"step {self.number}, {self.what}"

    @property
    def typed(self) -> str:
        """What it is short for."""
        program = [] if self.what == "run" else ["willow-cart"]
        return shlex.join([*program, *self.words])


@dataclass(frozen=True, slots=True)
class Job:
    """An errand whose values are put in.

    Attributes:
        into: where everything goes.
        sources: where it comes from.
        haul: how it is brought.
        steps: what is done with it.
    """

    into: str
    sources: Sequence[Source]
    haul: HaulRequest
    steps: Sequence[Step]


def make_job(document: Document, values: Values, last: datetime | None = None) -> Job:
    """Put the values in, and turn every table into the options of its command.

    Args:
        document: the errand as it is written.
        values: those of this run.
        last: when the last good run began; None if there was none.

    Raises:
        BadOption: something in it means nothing.
    """
    into = values.fill(str(document.top.keys["into"]), document.top.place("into"))
    connecting = _words(document.connecting, values, options_of("connecting"))
    reaching = [*preferred("load", ()), *connecting]
    sources = [
        _make_source(_with_last_run(table, last), variant, reaching)
        for table in document.sources
        for variant in values.variants(_texts_in(table))
    ]
    haul = [
        *_words(document.haul, values, options_of("haul")),
        *_words(document.filing, values, options_of("filing")),
        *(
            f"--{key}={values.fill(str(document.top.keys[key]), document.top.place(key))}"
            for key in ("note", "cart")
            if document.top.keys.get(key)
        ),
    ]
    haul += connecting
    request = read_words(
        HaulRequest, ["-", f"--into={into}", *preferred("haul", haul), *haul], document.haul
    )
    opens = any(source.request.as_ == "archive" for source in sources)
    request = replace(request, sources=(), as_="archive" if opens else None)
    steps = [
        _make_step(number, table, values, into, document.sources)
        for number, table in enumerate(document.arrivals, 1)
    ]
    return Job(into, sources, request, steps)


def _with_last_run(table: Table, last: datetime | None) -> Table:
    """A source whose files are wanted since the last run; at the first, all are."""
    if table.keys.get("since") != LAST_RUN:
        return table
    others = {key: value for key, value in table.keys.items() if key != "since"}
    # A file that was put up while the last run was looking may have been missed by it.
    return replace(table, keys=others if last is None else {**others, "since": last.isoformat()})


def _make_source(table: Table, values: Values, reaching: Sequence[str]) -> Source:
    at = table.keys.get("at")
    addresses = [at] if isinstance(at, str) else at
    if not isinstance(addresses, list) or not addresses:
        raise BadOption(table.place("at"), "does not say where", 'write at = "ADDRESS"')
    filled = [values.fill(str(each), table.place("at")) for each in addresses]
    options = options_of("source")
    words = _words(table, values, options, besides=("at", "name"))
    request = read_words(LoadRequest, [*reaching, *words, "--cart=-", "--", *filled], table)
    name = values.fill(str(table.keys.get("name", "")), table.place("name"))
    choosing = [word for word in words if not word.startswith("--since=")]
    return Source(name, request, fingerprint("\n".join([name, *filled, *choosing])))


def _make_step(
    number: int, table: Table, values: Values, into: str, sources: Sequence[Table]
) -> Step:
    """Turn a table into the words of a command."""
    named = [what for what in STEPS if what in table.keys]
    if len(named) != 1:
        reason = f"is {' and '.join(named)} at once" if named else "does not say what is done"
        raise BadOption(table.place(), reason, f"name one of {', '.join(STEPS)}")
    what = named[0]
    about = table.keys[what]
    texts = [about] if isinstance(about, str) else about
    if not isinstance(texts, list) or not texts:
        raise BadOption(table.place(what), "is no text", "write it in quotes")
    filled = [values.fill(str(each), table.place(what)) for each in texts]
    if what == "run":
        table.require_known(("run",))
        return Step(number, what, shlex.split(filled[0]))
    options = options_of(what)
    words = _words(table, values, options, besides=(what, "of"))
    by_name = tuple(key for key in _BY_NAME if (what, key) != ("unpack", "keep"))
    words += _inherited(table, values, options, sources, by_name)
    match what:
        case "unpack":
            words += [f"--keep={pattern}" for pattern in filled]
        case "receipt":
            words += [f"--html={filled[0]}"]
        case _:
            words += [f"--to={filled[0]}"]
    command = [what, into, *words]
    read_words(
        COMMANDS[what].request, command[1:], table
    )  # a slip is told before anything is fetched
    return Step(number, what, command)


def _inherited(
    table: Table,
    values: Values,
    options: Mapping[str, Option],
    sources: Sequence[Table],
    by_name: Sequence[str],
) -> list[str]:
    """What a step takes over from a source, so that no pattern is typed twice.

    From the source that `of` names, or from the only one, unless the step chooses itself. Patterns
    with a slash are about the folders there, which may be others here. The archives of an
    unpacking step are those that it names, so no patterns are added to them.

    Raises:
        BadOption: there is no such source.
    """
    named = [each for each in sources if each.keys.get("name") == table.keys.get("of")]
    if "of" in table.keys and not named:
        raise BadOption(table.place("of"), "is the name of no source", "give one a name")
    if "of" not in table.keys:
        named = list(sources[:1]) if len(sources) == 1 else []
    if not named or "keep" not in options or any(key in table.keys for key in _BY_NAME):
        return []
    source = named[0]
    taken = {
        key: value
        for key, value in source.keys.items()
        if key in by_name and not any("/" in text for text in _texts_of(value))
    }
    words = []
    # Where a list makes several sources, a step is about all of them.
    for variant in values.variants([text for value in taken.values() for text in _texts_of(value)]):
        words += _words(replace(source, keys=taken), variant, options)
    return list(dict.fromkeys(words))


def _texts_of(value: object) -> list[str]:
    return [str(each) for each in (value if isinstance(value, list) else [value])]


def _texts_in(table: Table) -> list[str]:
    """Everything in a table that may name a value."""
    return [text for value in table.keys.values() for text in _texts_of(value)]


def _words(
    table: Table,
    values: Values,
    options: Mapping[str, Option],
    besides: Sequence[str] = (),
) -> list[str]:
    """The options of a table as they would be typed, with the values put in."""

    def fill(text: str, key: str, place: str) -> str:
        # Fields of templates and of commands are no values, and stay.
        return values.fill(text, place, leave=_has_fields(key))

    return words_of(table, options, besides, fill)


def _has_fields(key: str) -> bool:
    return key in ("file_as", "unpack_to", "on_arrival", "endpoint", "name_parts") or "_re" in key
