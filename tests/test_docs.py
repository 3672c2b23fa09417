"""Documentation that is fails here."""

from __future__ import annotations

import json
import pkgutil
import re
import shlex
import tomllib
from pathlib import Path

import jsonschema
import pytest

import willow_cart
from tests.support.docs import docs_module
from tests.support.program import run
from willow_cart.cart.columns import COLUMNS
from willow_cart.cli.main import make_parser
from willow_cart.demo.example import SECRETS
from willow_cart.demo.places import open_places
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.receipt import ReceiptRow
from willow_cart.ledger.schema import VERSION
from willow_cart.model import State

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]


def test_the_reference_is_what_the_parser_says() -> None:
    rendered = docs_module("make_reference").render()
    assert (ROOT / "docs" / "reference.md").read_text() == rendered, "run `make docs`"


def test_the_schema_of_errands_is_what_the_parser_says_and_takes_the_guide_s() -> None:
    written = (ROOT / "docs" / "errand.schema.json").read_text()
    assert written == docs_module("make_schema").render(), "run `make docs`"
    (errand,) = re.findall(
        r"```toml\n(into.*?)```", (ROOT / "docs" / "guide.md").read_text(), re.DOTALL
    )
    content = tomllib.loads(errand)
    check = jsonschema.Draft202012Validator(json.loads(written))
    check.validate(content)
    content["haul"]["lnes"] = 6
    assert not check.is_valid(content)


@pytest.mark.parametrize("name", ["guide.md", "recipes.md", "outputs.md"])
def test_every_answer_on_a_page_is_what_the_command_answers(name: str) -> None:
    page = (ROOT / "docs" / name).read_text()
    assert page.count("```console\n$ ") > 2
    assert docs_module("make_outputs").render(page) == page, (
        "run `make docs`, and read what it says"
    )


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_command_on_a_page_is_understood(page: Path) -> None:
    blocks = re.findall(r"```sh\n(.*?)```", page.read_text(), re.DOTALL)
    commands = [line for block in blocks for line in block.splitlines() if "willow-cart" in line]
    commands += re.findall(r"`(willow-cart [^`]+)`", page.read_text())
    for command in commands:
        words = shlex.split(command.partition(" > ")[0], comments=True)[1:]
        if words != ["--help"]:
            assert make_parser().parse_args(words)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_link_and_option_on_a_page_exists(page: Path) -> None:
    # Options of another program are its own.
    text = re.sub(
        r"dask (scheduler|worker)[^\n`]*|with `--scheduler-file[^`]*`", "", page.read_text()
    )
    for target in re.findall(r"\]\(([^)#]+)\)", text):
        assert (page.parent / target).exists(), target
    reference = (ROOT / "docs" / "reference.md").read_text()
    for option in set(re.findall(r"(?<![\w-])--[a-z][a-z-]+", text)) - {"--help"}:
        assert option in reference, option


def test_the_pictures_are_few_and_all_are_shown() -> None:
    pictures = list((ROOT / "docs" / "screenshots").glob("*.png"))
    pages = "".join(page.read_text() for page in PAGES)
    assert 0 < len(pictures) < 20
    assert all(f"screenshots/{picture.name}" in pages for picture in pictures)


def test_the_guide_s_scripts_run(
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    trust_site: StandIn,
    capsys: pytest.CaptureFixture[str],
) -> None:
    page = (ROOT / "docs" / "guide.md").read_text()
    scripts = re.findall(r"```python\n(.*?)```", page, re.DOTALL)
    monkeypatch.chdir(tmp_path)
    trust_site.exhibits |= {"a.csv": Exhibit(b"a"), "b.wav": Exhibit(b"b")}
    Path("addresses.txt").write_text(f"{trust_site.base}/a.csv\n{trust_site.base}/b.wav\n")
    for script in scripts:
        there = script.replace("https://trust.example", trust_site.base)
        exec(compile(there, "guide.md", "exec"), {})
    assert Path("data/a.csv").read_bytes() == b"a"
    assert not Path("data/b.wav").exists()
    assert "May 2031 Cell(row=1, place=1, column=2, title='Counts')" in capsys.readouterr().out


def test_the_formats_name_every_column(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "formats.md").read_text()
    assert page == docs_module("make_columns").render(page), "run `make docs`"
    assert re.findall(r"^\| `(\w+)` \|", page, re.MULTILINE)[: len(COLUMNS)] == [*COLUMNS]
    for field in ReceiptRow.__struct_fields__:
        assert f"`{field}`" in page
    assert f"`user_version`, now {VERSION}." in page
    assert all(f"`{state}`" in page for state in State)
    with Ledger(tmp_path / "ledger.db", create=True) as ledger:
        for table in ledger.rows("SELECT name FROM sqlite_master WHERE type = 'table'"):
            (line,) = re.findall(rf"^\| `{table['name']}` \|.*$", page, re.MULTILINE)
            for column in ledger.rows(f"PRAGMA table_info({table['name']})"):
                known = line + " `run` `id`"
                assert f"`{column['name']}`" in known, (table["name"], column["name"])


def test_the_public_face_is_what_it_lists() -> None:
    for name in willow_cart.__all__:
        assert getattr(willow_cart, name) is not None
    assert sorted(willow_cart.__all__) == willow_cart.__all__
    assert set(willow_cart._HOMES) == set(willow_cart.__all__) - {"__version__"}
    with pytest.raises(AttributeError):
        willow_cart.nothing  # noqa: B018


def test_every_module_says_in_its_first_line_why_it_exists() -> None:
    for path in (ROOT / "src").rglob("*.py"):
        assert path.read_text().startswith('"""'), path


def test_the_house_is_drawn_as_its_imports_run() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())
    (contract, *_) = project["tool"]["importlinter"]["contracts"]
    layers = [re.findall(r"willow_cart\.(\w+)", layer) for layer in contract["layers"]]
    house = (ROOT / "docs" / "house.md").read_text()
    drawn = re.findall(r"^(\w+)(?:/|\.py) ", house.split("```")[1], re.MULTILINE)
    assert drawn == [*(name for layer in layers for name in layer), "demo"]
    there = {path.stem for path in (ROOT / "src" / "willow_cart").glob("[a-z]*")} - {"py"}
    assert there == set(drawn)


def test_every_promise_of_security_md_names_a_test_that_holds_it() -> None:
    text = (ROOT / "SECURITY.md").read_text().partition("## What is promised")[2]
    promises = re.split(r"^\d+\. ", text.partition("\n## ")[0], flags=re.MULTILINE)[1:]
    assert len(promises) > 10
    for promise in promises:
        named = re.findall(r"`(tests/\w+\.py)`", promise)
        assert named, promise
        assert all((ROOT / each).is_file() for each in named), promise


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_part_of_the_program_on_a_page_exists(page: Path) -> None:
    parts = {path.stem for path in (ROOT / "src" / "willow_cart").glob("[a-z]*")}
    for name in re.findall(r"`([a-z_]+(?:\.\w+)+)(?:\(\))?`", page.read_text()):
        if name.partition(".")[0] in parts and not name.endswith(".py"):
            assert pkgutil.resolve_name(f"willow_cart.{name}"), name


_NOT_RUN = ("demo", "runs --", "--detach", "--cluster", "--install", "pick sounds.csv\n")
"""Commands that need a terminal, a cluster or a crontab, or that go on by themselves."""

_ELSEWHERE = re.compile(
    r"\b(?!trust\b)\w+\.example|api\.trust|old\.zip|/media/|season\.csv|az://|report\.toml|check\.py"
)
"""Places and files that the demo does not have."""

_MEANT = re.compile(r"addresses\.txt|offline")
"""The list has a mistake in it, and the pages to read offline have a broken link."""


@pytest.mark.parametrize("page", ["README.md", "docs/guide.md"])
def test_the_commands_of_a_page_run_on_the_demo(page: str, tmp_path: Path) -> None:
    text = (ROOT / page).read_text()
    blocks = re.findall(r"```sh\n(.*?)```", text, re.DOTALL)
    failed = []
    with open_places(tmp_path / "lists") as places:
        desk = tmp_path / "lists"
        for line in "".join(blocks).splitlines(keepends=True):
            if not line.startswith("willow-cart ") or _ELSEWHERE.search(line):
                continue
            if any(each in line for each in _NOT_RUN):
                continue
            words = line.removeprefix("willow-cart ").replace("https://trust.example", places.web)
            words = words.replace("http://127.0.0.1:8031", places.web)
            words = re.split(r" > ", words)[0]
            done = run(*shlex.split(words, comments=True), cwd=desk, env={**SECRETS, "FEN": "x"})
            if done.code and not _MEANT.search(line):
                failed.append((line.strip(), done.code, done.err[-300:]))
    assert not failed
