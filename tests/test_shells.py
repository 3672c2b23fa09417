"""What helps at the prompt: completion, the guide by its topics, hints."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from tests.support.program import run
from willow_cart.requests import COMMANDS

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
    for topic in listed[:-2]:
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
