"""Write `docs/reference.md` from the parser, so that it cannot say anything else: `make docs`."""

from __future__ import annotations

import argparse
from pathlib import Path

from willow_cart.cli.main import commands_of, make_parser

BAR, STAR = r"\|", r"\*"
PAGE = Path(__file__).parent / "reference.md"
GUIDE = Path(__file__).parent / "guide.md"
SHIPPED = Path(__file__).parent.parent / "src" / "willow_cart" / "cli" / "guide.md"
"""The guide as it goes with the program, for `willow-cart help`."""


def render() -> str:
    """The page."""
    parser = make_parser()
    lines = [
        "# Reference",
        "",
        "Made from the program's own parser by `make docs`; the same words as `--help`.",
        "",
        f"{parser.description}",
        "",
        f"{parser.epilog}",
    ]
    for name, command in commands_of(parser).items():
        lines += ["", f"## willow-cart {name}", "", f"{command.description}"]
        for group in command._action_groups:  # noqa: SLF001  # there is no public way to them
            rows = [_row(action) for action in group._group_actions if action.dest != "help"]  # noqa: SLF001
            if rows:
                title = {"positional arguments": "What it takes", "options": "Options"}
                lines += [
                    "",
                    f"**{title.get(str(group.title), str(group.title).capitalize())}**",
                    "",
                ]
                lines += ["| | |", "| --- | --- |", *rows]
    return "\n".join(lines) + "\n"


def _row(action: argparse.Action) -> str:
    words = ", ".join(action.option_strings)
    if action.nargs != 0:
        words = f"{words} {action.metavar or action.dest}".strip()
    text = (action.help or "") % {"default": action.default}
    # A bar would begin another cell, and a pair of stars slanted words.
    return f"| `{words.replace('|', BAR)}` | {text.replace('|', BAR).replace('*', STAR)} |"


if __name__ == "__main__":
    PAGE.write_text(render(), encoding="utf-8")
    SHIPPED.write_bytes(GUIDE.read_bytes())
