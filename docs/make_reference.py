"""Write `docs/reference.md` from the option table, so that both say the same: `make docs`."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from willow_cart.cli.main import DESCRIPTION, EXIT_CODES
from willow_cart.commands.table import COMMANDS, Option

BAR, STAR = r"\|", r"\*"
PAGE = Path(__file__).parent / "reference.md"


def render() -> str:
    """The page."""
    lines = [
        "# Reference",
        "",
        "Made from the program's own table of options by `make docs`; the same words as `--help`.",
        "",
        DESCRIPTION,
        "",
        EXIT_CODES,
    ]
    for name, command in COMMANDS.items():
        lines += ["", f"## willow-cart {name}", "", command.description]
        if arguments := list(command.arguments()):
            lines += _table("What it takes", arguments)
        for group in command.groups():
            lines += _table(group.title.capitalize() or "Options", group.options)
    return "\n".join(lines) + "\n"


def _table(title: str, options: Iterable[Option]) -> list[str]:
    rows = map(_row, options)
    return ["", f"**{title}**", "", "| | |", "| --- | --- |", *rows]


def _row(option: Option) -> str:
    words = "" if option.is_argument else option.flag
    if not option.is_flag:
        words = f"{words} {option.metavar or option.dest}".strip()
    # A bar would begin another cell, and a pair of stars slanted words.
    text = option.text.replace("|", BAR).replace("*", STAR)
    return f"| `{words.replace('|', BAR)}` | {text} |"


if __name__ == "__main__":
    PAGE.write_text(render(), encoding="utf-8")
