"""An option is defined once: whichever way it is given, the same is asked for."""

from __future__ import annotations

import inspect
import json
import typing
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest

from tests.support.docs import ROOT, docs_module
from tests.support.program import RunHere
from willow_cart.cli.arguments import given_by
from willow_cart.cli.main import make_parser
from willow_cart.commands.errand import write_errand
from willow_cart.commands.haul import HaulRequest
from willow_cart.commands.table import COMMANDS, TABLES, options_of, options_of_command
from willow_cart.commands.unpack import UnpackRequest
from willow_cart.errands import Values, read_document
from willow_cart.errands.job import Asked, make_job
from willow_cart.errors import BadOption
from willow_cart.filing import Layout
from willow_cart.formats.manifests import Manifest
from willow_cart.offline_copies import Stay
from willow_cart.options import Option
from willow_cart.options import readers as read
from willow_cart.options.groups import ArrivalCommand, IfPresent, Twins, Unknown
from willow_cart.options.option import Request, given_in
from willow_cart.scripting import functions, keywords
from willow_cart.sources.listing import Kind
from willow_cart.toml_file import Table

_FUNCTIONS = (
    "survey peek load pick weigh haul unpack combine pack audit receipt refile offline errand knock"
).split()
"""The commands that are functions, too."""

_FOR_PEOPLE = frozenset(
    "brief csv json tree folders levels why overwrite preview detach write_errand to_script".split()
)
"""What only a command line needs, or what a function has another way for."""

_OF_NEW_ERRANDS = {
    key
    for group in ("looking", "choosing", "sign-in", "connecting")
    for key in options_of_command("errand", (group,))
}
_OTHERWISE = {
    "errand": {"set", "from", "new", "summary", *_OF_NEW_ERRANDS},
    "haul": {"cart"},
    "load": {"delimiter"},
}
"""What a function has by another name: `values`, `begin`, and a source that is a cart."""

_SAMPLES: dict[Any, tuple[str, object]] = {
    read.size: ("12MB", "12MB"),
    read.speed: ("2MB/s", "2MB/s"),
    read.seconds: ("7", 7),
    read.positive: ("3", 3),
    read.few: ("3", 3),
    read.whole: ("3", 3),
    read.depth: ("all", "all"),
    read.pages: ("all", "all"),
    read.drives: ("2MB,3MB", ["2MB", "3MB"]),
    read.strands: ("auto", "auto"),
    read.moment: ("2031-05-01", "2031-05-01"),
    read.end: ("2031-05-01", "2031-05-01"),
    read.span: ("2031-05-01/2031-05-31", "2031-05-01/2031-05-31"),
    ArrivalCommand: ("check {path}", "check {path}"),
    Path: ("some/file", Path("some/file")),
    str: ("3,8", "3,8"),
}
"""By what reads an option: what is typed, and what is given in Python for the same."""

_TEXTS = {"kind": "table", "nth": "1/3", "within_box": "4,52,5,53"}
"""By key, for rules that are not read as any text."""


def _sample(option: Option) -> tuple[str, object]:
    """A value that is not the default, as it is typed and as it is given in Python."""
    if option.is_flag:
        return "", True
    if option.choices:
        other = next(each for each in reversed(option.choices) if each != option.default)
        return other, other
    if option.metavar.startswith("env:"):
        return "env:FROM_TRUST", "env:FROM_TRUST"
    if option.key in _TEXTS:
        return _TEXTS[option.key], _TEXTS[option.key]
    return _SAMPLES[option.read]


def _typed(option: Option) -> str:
    text, _given = _sample(option)
    return option.flag if option.is_flag else f"{option.flag}={text}"


def _all_options() -> Iterator[tuple[str, Option]]:
    for name, command in COMMANDS.items():
        for option in command.options():
            yield name, option


def test_each_name_stands_for_one_option_of_a_command() -> None:
    for name, command in COMMANDS.items():
        keys = [option.key for option in command.options()]
        assert len(keys) == len(set(keys)), name
        assert not {option.dest for option in command.options()} & set(dir(Request)), name


def test_a_command_has_a_request_and_a_module_that_carries_it_out() -> None:
    for name, command in COMMANDS.items():
        runs = import_module(f"willow_cart.cli.commands.{name}").run
        assert command.request.command == name
        assert runs.__annotations__["request"] == command.request.__name__


def test_options_come_from_the_table_and_from_nowhere_else() -> None:
    source = ROOT / "src" / "willow_cart"
    adding = [path.name for path in source.rglob("*.py") if ".add_argument(" in path.read_text()]
    # The program's own --version, and the script that is written for machines without it.
    assert sorted(adding) == ["arguments.py", "main.py", "program.py"]


_REQUIRED = {
    "load": ["--cart=-"],
    "haul": ["--into=x"],
    "offline": ["--into=x"],
    "pack": ["--to=x.zip"],
}


@pytest.mark.parametrize("command", _FUNCTIONS)
def test_typed_and_as_a_keyword_an_option_asks_for_the_same(command: str) -> None:
    kind = COMMANDS[command].request
    rest = _REQUIRED.get(command, [])
    options = options_of_command(command)
    without = _request(kind, ["x", *rest])
    for key, option in options.items():
        if any(word.startswith(f"{option.flag}=") for word in rest):
            continue
        typed = _request(kind, ["x", *rest, _typed(option)])
        table = Table("in Python", "in Python", {key: _sample(option)[1]})
        assert typed == kind.read({**without.given, **given_in(table, options)})
        assert typed != without, key


def _request(kind: type[Asked], words: Sequence[str]) -> Asked:
    """What is asked for by typing words."""
    typed = make_parser([kind.command]).parse_args([kind.command, *words])
    return kind.read(given_by(typed, COMMANDS[kind.command]))


def test_each_keyword_is_typed() -> None:
    for command in _FUNCTIONS:
        parameters = inspect.signature(getattr(functions, command)).parameters
        name = "Survey" if command == "load" else command.capitalize()
        typed = getattr(keywords, f"{name}Keywords", None)
        known = {key.rstrip("_") for key in typing.get_type_hints(typed)} if typed else set()
        assert not known & set(parameters), command
        said_otherwise = _FOR_PEOPLE | _OTHERWISE.get(command, set())
        options = set(options_of_command(command))
        assert options - known - set(parameters) <= said_otherwise, command
        assert known <= options, command
    written = (ROOT / "src" / "willow_cart" / "scripting" / "keywords.py").read_text()
    assert written == docs_module("make_keywords").render(), "run `make docs`"


def test_an_errand_that_is_written_asks_for_what_was_typed(tmp_path: Path) -> None:
    said_otherwise = {"into", "preview", "detach", "write_errand"}
    unpacking = options_of_command("haul", ("unpacking",))
    for key, option in options_of_command("haul").items():
        if key in said_otherwise:
            continue
        words = ["x", "--into=y", _typed(option)]
        if key == "header":
            words[-1] = "--header=X-Trust: env:FROM_TRUST"
        elif key in unpacking and key != "unpack":
            words.append("--unpack=*.zip")
        typed = _request(HaulRequest, words)
        asked = _asked_by_errand(tmp_path / f"{key}.toml", words)
        given = _values_of(typed)[option.dest]
        assert asked[option.dest] == given != option.default, key


def _asked_by_errand(path: Path, words: Sequence[str]) -> dict[str, Any]:
    """Write an errand of what is typed, read it, and return all that it asks for."""
    write_errand(path, _request(HaulRequest, words))
    job = make_job(read_document(path), Values({}, now=datetime.now(UTC), environment={}))
    (source,) = job.sources
    asked = {**_values_of(job.haul), **_of_table(source.request, "source")}
    for step in job.steps:
        unpacking = step.request
        assert isinstance(unpacking, UnpackRequest)
        assert _values_of(unpacking) == _values_of(_request(UnpackRequest, step.words[1:]))
        asked |= {**_of_table(unpacking, "unpack"), "unpack": unpacking.choosing.keep}
    return asked


def _of_table(request: Request, table: str) -> dict[str, Any]:
    values = _values_of(request)
    return {each.dest: values[each.dest] for each in options_of(table).values()}


def _values_of(request: Request) -> dict[str, Any]:
    """Return the values of all options of a request and its groups."""
    return {
        option.dest: getattr(getattr(request, home) if home else request, option.dest)
        for home, _, options in request.homes()
        for option in options
    }


def test_the_reference_and_the_shells_know_each_option(here: RunHere, tmp_path: Path) -> None:
    page = (ROOT / "docs" / "reference.md").read_text()
    sections = dict(zip(COMMANDS, page.split("\n## ")[-len(COMMANDS) :], strict=True))
    shells = {shell: here(tmp_path, "completion", shell).out for shell in ("bash", "zsh", "fish")}
    for command, option in _all_options():
        assert option.flag in sections[command]
        for shell, script in shells.items():
            assert option.key.replace("_", "-") in script, shell


def test_the_schema_knows_each_key_of_an_errand() -> None:
    schema = json.loads((ROOT / "docs" / "errand.schema.json").read_text())["properties"]
    steps = {each["required"][0]: each for each in schema["step"]["items"]["oneOf"]}
    tables = {**schema, "source": schema["source"]["items"], **steps}
    for table in TABLES:
        for key, option in options_of(table).items():
            known = tables[table]["properties"][key]
            assert (known.get("type") == "boolean") == option.is_flag, key


def test_choices_are_those_that_the_core_knows() -> None:
    known = {
        "as": {each.value for each in Kind},
        "manifest": {each.value for each in Manifest},
        "stay": {each.value for each in Stay},
        "layout": {each.value for each in Layout},
        "if_present": {each.value for each in IfPresent},
        "twins": {each.value for each in Twins},
        "undated": {each.value for each in Unknown},
        "unsized": {each.value for each in Unknown},
    }
    for _command, option in _all_options():
        if option.key in known and option.choices:
            assert set(option.choices) == known[option.key], option.key


def test_what_a_reader_refuses_is_refused_in_every_face() -> None:
    for command, option in _all_options():
        if option.is_flag or option.read in (str, Path, ArrivalCommand):
            continue
        with pytest.raises((BadOption, ValueError)):
            option.read("not-one")
        table = Table("a table", "a table", {option.key: "not-one"})
        with pytest.raises(BadOption):
            given_in(table, options_of_command(command))
