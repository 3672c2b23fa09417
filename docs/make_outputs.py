"""Run the commands of pages on the stand-ins, and write what they answer: `make docs`.

In a block of `console` a line that begins with `$` is a command; what is below it is what it
answers, on standard output and standard error. A test runs them again and compares.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

from willow_cart.demo.places import open_places

PAGES = [Path(__file__).parent / name for name in ("guide.md", "recipes.md", "outputs.md")]

_BLOCK = re.compile(r"```console\n(.*?)```", re.DOTALL)

# What is never the same twice: how long things took, and what times it is.
_CHANGING = (
    (re.compile(r"\b(in|took) (\d+ min )?\d+(\.\d+)? (ms|s)\b"), r"\1 0.1 s"),
    (re.compile(r"(goes on from \d+ kB) in \d+(\.\d+)? s"), r"\1 in 0.1 s"),
    (re.compile(r"\b(20[^3]\d-\d\d-\d\d) \d\d:\d\d"), "2031-06-03 09:00"),
    (re.compile(r"[\d.]+ [kMGT]B free here"), "83.4 GB free here"),
    (re.compile(r"\b(answer after|in) \d+ ms"), r"\1 1 ms"),
    # The manifest in it has those times, and packs a few bytes better or worse.
    (re.compile(r"(packed into \S+, 5\.8)\d kB"), r"\1 kB"),
    (re.compile(r"aside/\d{8}T\d{6}"), "aside/20310603T090000"),
    (re.compile(r"sha256:[0-9a-f]{64}"), f"sha256:{'0' * 64}"),
    (re.compile(r"port \d+ at 127"), "port 21 at 127"),
    (re.compile(r"\b20[^3]\d-\d\d-\d\d\b"), "2031-06-03"),
)


def render(text: str) -> str:
    """A page with what its commands answer now."""
    with tempfile.TemporaryDirectory() as folder, open_places(Path(folder)) as places:
        names = {
            "https://trust.example": places.web,
            "ftp://contractor.example": places.contractor,
            "https://store.example": places.store,
        }

        def run(block: re.Match[str]) -> str:
            answered = [
                f"$ {command}\n{_answer(command, names, folder)}"
                for command in re.findall(r"^\$ ((?:.*\\\n)*.*)", block[1], re.MULTILINE)
            ]
            return f"```console\n{''.join(answered)}```"

        return _BLOCK.sub(run, text)


def _answer(command: str, names: dict[str, str], folder: str) -> str:
    for name, address in names.items():
        command = command.replace(name, address)
    shell = f'willow-cart() {{ "{sys.executable}" -m willow_cart "$@"; }}\n{command}\n'
    # Neither the settings nor the errands of whoever runs this count.
    own = {"XDG_CONFIG_HOME": f"{folder}/.config", "XDG_STATE_HOME": f"{folder}/.state"}
    done = subprocess.run(  # noqa: S603
        ["bash", "-c", shell], cwd=folder, capture_output=True, text=True, check=False,  # noqa: S607
        env={**os.environ, **own},
    )  # fmt: skip
    # One after the other: between two pipes nobody knows the order.
    answer = done.stderr + done.stdout
    for name, address in names.items():
        host, shown = address.partition("://")[2], name.partition("://")[2]
        for written, instead in ((address, name), (host, shown), (host.replace(":", "_"), shown)):
            answer = answer.replace(written, instead)
    answer = answer.replace(folder, "~")
    for pattern, instead in _CHANGING:
        answer = pattern.sub(instead, answer)
    return answer if answer.endswith("\n") or not answer else f"{answer}\n"


if __name__ == "__main__":
    for page in PAGES:
        page.write_text(render(page.read_text("utf-8")), encoding="utf-8")
