"""What helps at the prompt: completion, the guide by its topics, hints."""

from __future__ import annotations

import shlex
import shutil
import subprocess
from pathlib import Path

import pytest

from tests.support.program import run
from willow_cart import synonyms
from willow_cart.cli.arguments import EVERYDAY
from willow_cart.cli.main import make_parser
from willow_cart.commands.table import COMMANDS
from willow_cart.demo.example import SECRETS
from willow_cart.demo.places import open_places
from willow_cart.demo.serving import tour

ROOT = Path(__file__).parent.parent


@pytest.mark.parametrize(
    ("typed", "completed"),
    [
        (["su"], "survey"),
        (["haul", "--la"], "--layout --largest-listing --lanes --lanes-per-host --largest"),
        (["haul", "--twins", ""], "keep link skip"),
        (["haul", "--twins", "=", "l"], "link"),
        (["weigh", "--lan"], ""),
        (["haul", "no-option"], ""),
    ],
)
def test_bash_completes(typed: list[str], completed: str, tmp_path: Path) -> None:
    script = run("completion", "bash", cwd=tmp_path).out
    words = " ".join(f"'{word}'" for word in ["willow-cart", *typed])
    ask = f"{script}\nCOMP_WORDS=({words}); COMP_CWORD={len(typed)}; _willow_cart"
    ask += '; echo "${COMPREPLY[*]}"'
    done = subprocess.run(["bash", "-c", ask], capture_output=True, text=True, check=True)
    assert done.stdout.rstrip("\n") == completed


@pytest.mark.parametrize("shell", ["zsh", "fish"])
def test_other_shells_are_told_every_command(shell: str, tmp_path: Path) -> None:
    script = run("completion", shell, cwd=tmp_path).out
    assert all(command in script for command in COMMANDS)
    if shutil.which(shell):
        (tmp_path / "script").write_text(script)
        subprocess.run([shell, "-n", tmp_path / "script"], check=True)


def test_the_guide_goes_with_the_program(tmp_path: Path) -> None:
    shipped = ROOT / "src" / "willow_cart" / "cli" / "guide.md"
    assert shipped.resolve() == ROOT / "docs" / "guide.md"
    listed = run("help", cwd=tmp_path).out.splitlines()
    for topic in listed[: listed.index("")]:
        assert run("help", *topic.lower().split(), cwd=tmp_path).out.startswith(f"## {topic}\n")
    assert "--twins" in run("help", "twins", cwd=tmp_path).out
    assert "](screenshots" not in run("help", "errands", cwd=tmp_path).out
    wrong = run("help", "erands", cwd=tmp_path)
    assert (wrong.code, "did you mean errands?" in wrong.err) == (2, True)


def test_slips_of_the_hand_get_a_hint(tmp_path: Path) -> None:
    for typed, meant in (
        (["servey", "x"], '"survey"'),
        (["survey", "--depht", "2", "x"], "--depth"),
    ):
        done = run(*typed, cwd=tmp_path)
        assert (done.code, f"did you mean {meant}?" in done.err) == (2, True)


def test_help_is_one_screen_with_examples_and_all_of_it_on_request(tmp_path: Path) -> None:
    for name, command in COMMANDS.items():
        short = run(name, "--help", cwd=tmp_path, env={"COLUMNS": "100"})
        assert short.code == 0
        assert len(short.out.splitlines()) <= 40, name
        whole = run(name, "--help", "all", cwd=tmp_path, env={"COLUMNS": "100"})
        assert all(option.flag in whole.out for option in command.options()), name
        if name in EVERYDAY:
            assert set(EVERYDAY[name].options) <= set(command.by_key())
            assert f"{name} --help all has" in short.out


def test_the_examples_of_the_help_work_against_the_demo(tmp_path: Path) -> None:
    parser = make_parser()
    with open_places(tmp_path / "lists", 0) as places:
        for everyday in EVERYDAY.values():
            for example in everyday.examples:
                words = shlex.split(example.replace("http://127.0.0.1:8031", places.web))
                parser.parse_args(words)
                if words[0] in ("survey", "haul", "load", "knock"):
                    done = run(*words, cwd=tmp_path)
                    assert done.code == 0, (example, done.err)


def test_without_a_command_the_first_steps_are_shown(tmp_path: Path) -> None:
    greeted = run(cwd=tmp_path)
    assert (greeted.code, greeted.err) == (0, "")
    assert "willow-cart haul ADDRESS --into FOLDER" in greeted.out


def test_help_finds_words_in_options_and_in_the_guide(tmp_path: Path) -> None:
    slow = run("help", "transfer", "slower", cwd=tmp_path)
    assert "`--slowest" in slow.out
    assert slow.out.count("## ") <= 3
    assert "--gap" not in slow.out, "only a row of its table is shown"
    assert run("help", "slow", "server", cwd=tmp_path).code == 0
    none = run("help", "xyzzy", cwd=tmp_path)
    assert (none.code, "help xyzzy: no entry" in none.err) == (2, True)


@pytest.mark.parametrize(
    ("words", "entry"),
    [
        ("unzip", "`willow-cart unpack`"), ("recursive", "`--depth N|all`"),
        ("subfolders", "`--depth N|all`"), ("parallel", "`--lanes N`"),
        ("timeouts", "`--stall-after SECONDS`"), ("merge", "`willow-cart combine`"),
        ("excel", "`willow-cart combine`"), ("invert", "`--swap`"), ("exclude", "`--drop"),
        ("rename", "`willow-cart refile`"), ("every week", "`willow-cart timetable`"),
        ("schedule", "`willow-cart timetable`"), ("retries", "`--attempts N`"),
        ("dry-run", "`--preview`"), ("duplicates", "`--twins"), ("hashes", "`--checksums"),
    ],
)  # fmt: skip
def test_help_knows_other_words(tmp_path: Path, words: str, entry: str) -> None:
    found = run("help", *words.split(), cwd=tmp_path)
    assert found.code == 0
    assert entry in "\n".join(found.out.splitlines()[:8]), found.out


def test_every_synonym_leads_to_what_exists() -> None:
    flags = {option.flag for command in COMMANDS.values() for option in command.options()}
    for meaning, words in synonyms._WORDS_FOR.items():
        name, *more = meaning.split()
        known = name in COMMANDS or name in flags
        assert known, meaning
        assert all(each in flags for each in more if each.startswith("--")), meaning
        for word in words.split():
            assert meaning in synonyms.meanings_of(word), word
            if len(word) > 3 and not word.endswith("s"):
                assert meaning in synonyms.meanings_of(f"{word}s"), word


def test_the_tour_of_the_demo_runs_in_its_order(tmp_path: Path) -> None:
    desk = tmp_path / "desk"
    desk.mkdir()
    with open_places(tmp_path / "lists", 0) as places:
        for line in tour(places, tmp_path / "lists"):
            done = run(*shlex.split(line, comments=True), cwd=desk, env=SECRETS)
            is_meant = "on purpose" in line
            assert (done.code != 0) is is_meant, (line, done.err)
