"""`help`: print the guide by topic."""

from __future__ import annotations

import difflib
import re
import sys
from importlib.resources import files

from willow_cart.cli.screen import show_line
from willow_cart.errors import BadOption
from willow_cart.exits import Exit
from willow_cart.requests.help import HelpRequest

_HEADING = re.compile(r"^## (.+)$", re.MULTILINE)


def run(request: HelpRequest) -> int:
    """Print the guide, or a part of it."""
    topics = _topics()
    if not request.topic:
        for heading in topics:
            show_line(heading)
        show_line("")
        show_line("willow-cart help TOPIC shows one; willow-cart COMMAND --help has the options")
        return Exit.GOOD
    _show("\n\n".join(_find(topics, " ".join(request.topic))))
    return Exit.GOOD


def _topics() -> dict[str, str]:
    """Return the sections of the guide by heading."""
    guide = files("willow_cart.cli").joinpath("guide.md").read_text("utf-8")
    # A picture cannot be shown here, and would lead nowhere.
    parts = _HEADING.split(re.sub(r"^!\[.*\n\n?", "", guide, flags=re.MULTILINE))
    return {
        heading: f"## {heading}\n{text.rstrip()}"
        for heading, text in zip(parts[1::2], parts[2::2], strict=True)
    }


def _find(topics: dict[str, str], wanted: str) -> list[str]:
    """Return the sections on a topic: by heading, else those that mention it.

    Raises:
        BadOption: it does not exist.
    """
    plain = wanted.lower()
    for fits in (plain.__eq__, lambda heading: plain in heading):
        if by_heading := [text for heading, text in topics.items() if fits(heading.lower())]:
            return by_heading
    # An option of that name comes before the word; one mention in passing is not what is wanted
    # where another section is about it.
    for before in ("--", ""):
        mentioned = re.compile(rf"(?<![\w-]){before}{re.escape(plain)}(?![\w-])", re.IGNORECASE)
        counts = {text: len(mentioned.findall(text)) for text in topics.values()}
        if most := max(counts.values()):
            return [text for text, count in counts.items() if count == most]
    near = difflib.get_close_matches(plain, [heading.lower() for heading in topics], 1, 0.5)
    meant = f"did you mean {near[0]}?" if near else "willow-cart help lists the topics"
    raise BadOption(f"help {wanted}", "not a topic of the guide", meant)


def _show(text: str) -> None:
    if not sys.stdout.isatty():
        print(text)
        return
    from rich.console import Console
    from rich.markdown import Markdown
    from rich.theme import Theme

    quiet = Theme(
        {"markdown.code": "green", "markdown.h2": "bold", "markdown.table.header": "bold"}
    )
    Console(theme=quiet).print(Markdown(text))
