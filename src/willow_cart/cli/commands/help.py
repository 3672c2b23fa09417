"""`help`: print the guide by topic."""

from __future__ import annotations

import difflib
import re
import sys
from collections.abc import Iterator, Sequence
from importlib.resources import files

from willow_cart.cli.screen import show_line, show_text
from willow_cart.commands.program import HelpRequest
from willow_cart.commands.table import COMMANDS
from willow_cart.errors import BadOption, Exit
from willow_cart.structs import Value

# What a person reads of the answers to a question.
_MOST_PASSAGES = 3

# A word in the name of an option or a section counts as much as some in the text.
_TITLE_WEIGHT = 5
_WORD_WEIGHT = 100

_HEADING = re.compile(r"^## (.+)$", re.MULTILINE)


def run(request: HelpRequest) -> int:
    """Print the guide, or a part of it."""
    topics = _topics()
    if not request.topic:
        for heading in topics:
            show_line(heading)
        show_line("")
        show_line("willow-cart help TOPIC shows one, and help WORDS what is said of something;")
        show_line("willow-cart COMMAND --help has the options")
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
    """Return the sections of a heading, else the passages that say most of some words.

    Raises:
        BadOption: nothing is said of them.
    """
    plain = wanted.lower()
    for fits in (plain.__eq__, lambda heading: plain in heading):
        if by_heading := [text for heading, text in topics.items() if fits(heading.lower())]:
            return by_heading
    words = [re.compile(rf"(?<!\w){re.escape(word)}", re.IGNORECASE) for word in plain.split()]
    passages = [*_options(), *_passages(topics)]
    # Sorting keeps the order of those that say as much: options first, then the guide's.
    best = sorted(passages, key=lambda passage: -_score(passage, words))[:_MOST_PASSAGES]
    if found := [passage.text for passage in best if _score(passage, words)]:
        return found
    near = difflib.get_close_matches(plain, [heading.lower() for heading in topics], 1, 0.5)
    meant = f"did you mean {near[0]}?" if near else "willow-cart help lists the topics"
    raise BadOption(f"help {wanted}", "nothing is said of it", meant)


class _Passage(Value):
    """A paragraph of the guide, or an option.

    Attributes:
        title: what it is about.
        text: as it is shown.
    """

    title: str
    text: str


def _passages(topics: dict[str, str]) -> Iterator[_Passage]:
    for heading, section in topics.items():
        for paragraph in re.split(r"\n(?:\n+|(?=- ))", section)[1:]:
            for part in _rows_of(paragraph):
                yield _Passage(heading, f"## {heading}\n\n{part}")


def _rows_of(paragraph: str) -> Iterator[str]:
    """Yield each row of a table with its head; anything else as it is."""
    head, bar, rows = paragraph.partition("| --- |")
    if not bar:
        yield paragraph
        return
    rest, *rows_below = f"{bar}{rows}".split("\n")
    for row in rows_below:
        yield f"{head}{rest}\n{row}"


def _options() -> Iterator[_Passage]:
    """Yield all options, each with the commands that have it."""
    commands: dict[tuple[str, str], list[str]] = {}
    for name, command in COMMANDS.items():
        for option in command.options():
            shown = f"{option.flag} {option.metavar}".strip()
            commands.setdefault((shown, option.text), []).append(name)
    for (shown, text), names in commands.items():
        yield _Passage(shown, f"`{shown}` ({', '.join(names)}): {text}")


def _score(passage: _Passage, words: Sequence[re.Pattern[str]]) -> int:
    """Return how much a passage says of words; one that has more of them says more."""
    counts = [len(word.findall(passage.text)) for word in words]
    in_title = sum(bool(word.search(passage.title)) for word in words)
    there = sum(map(bool, counts))
    if 2 * there < len(words):
        return 0
    return _WORD_WEIGHT * there + _TITLE_WEIGHT * in_title + min(sum(counts), _TITLE_WEIGHT)


def _show(text: str) -> None:
    if not sys.stdout.isatty():
        show_text(text)
        return
    from rich.console import Console
    from rich.markdown import Markdown
    from rich.theme import Theme

    quiet = Theme(
        {"markdown.code": "green", "markdown.h2": "bold", "markdown.table.header": "bold"}
    )
    Console(theme=quiet).print(Markdown(text))
