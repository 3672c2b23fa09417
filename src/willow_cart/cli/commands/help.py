"""`help`: print the guide by topic."""

from __future__ import annotations

import difflib
import re
import sys
from collections.abc import Callable, Iterator, Sequence
from importlib.resources import files

from willow_cart.cli.screen import show_line, show_text
from willow_cart.commands.program import HelpRequest
from willow_cart.commands.table import COMMANDS
from willow_cart.errors import BadOption, Exit
from willow_cart.structs import Value
from willow_cart.synonyms import meanings_of, singular

# What a person reads of the answers to a question.
_MOST_ENTRIES = 4
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
    """Return the sections with a heading, or the entries and passages that match words best.

    Commands and options come first, one line each, also those that a word is a synonym for.

    Raises:
        BadOption: nothing matches.
    """
    plain = wanted.lower()
    for fits in (plain.__eq__, lambda heading: plain in heading):
        if by_heading := [text for heading, text in topics.items() if fits(heading.lower())]:
            return by_heading
    words = [_Word(word) for word in plain.split()]
    entries = _best([*_commands(), *_options()], _score_of_entry, words, _MOST_ENTRIES)
    passages = _best([*_passages(topics)], _score_of_passage, words, _MOST_PASSAGES)
    if found := [*entries, *passages]:
        return found
    near = difflib.get_close_matches(plain, [heading.lower() for heading in topics], 1, 0.5)
    meant = f"did you mean {near[0]}?" if near else "willow-cart help lists the topics"
    raise BadOption(f"help {wanted}", "no entry", meant)


class _Word:
    """A word of a question, with the commands and options that it is a synonym for.

    Attributes:
        names: of commands and options that it means, or that are called so.
        part: the word in the singular, as it may be part of an option's name.
        in_text: matches the word, or an option that it means.
    """

    def __init__(self, typed: str) -> None:
        self.part = singular(typed.lstrip("-"))
        meanings = meanings_of(typed)
        meant = {word for meaning in meanings for word in meaning.split()} - _ARGUMENTS
        self.names = {typed, self.part, f"--{self.part}", *meant}
        own = rf"(?<!\w){re.escape(self.part)}(?:s|es|d|ed|ing)?(?!\w)"
        others = [rf"`[^`\n]*(?<![\w-]){re.escape(each)}(?![\w-])" for each in meanings]
        self.in_text = re.compile("|".join([own, *others]), re.IGNORECASE)


# Words of the table of synonyms that are neither commands nor options.
_ARGUMENTS = frozenset({"all", "flat"})


def _best(
    passages: Sequence[_Passage],
    score: Callable[[_Passage, Sequence[_Word]], int],
    words: Sequence[_Word],
    most: int,
) -> list[str]:
    """Return the texts of the passages with the highest scores; equals stay in order."""
    scores = {passage: score(passage, words) for passage in passages}
    best = sorted(passages, key=lambda passage: -scores[passage])[:most]
    return [passage.text for passage in best if scores[passage]]


class _Passage(Value):
    """A paragraph of the guide, or an option.

    Attributes:
        title: their subject.
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


def _commands() -> Iterator[_Passage]:
    """Yield all commands."""
    for name, command in COMMANDS.items():
        yield _Passage(name, f"`willow-cart {name}`: {command.brief}")


def _options() -> Iterator[_Passage]:
    """Yield all options, each with the commands that have it."""
    commands: dict[tuple[str, str, str], list[str]] = {}
    for name, command in COMMANDS.items():
        for option in command.options():
            shown = f"{option.flag} {option.metavar}".strip()
            commands.setdefault((option.flag, shown, option.text), []).append(name)
    for (flag, shown, text), names in commands.items():
        yield _Passage(flag, f"`{shown}` ({', '.join(names)}): {text}")


def _score_of_entry(entry: _Passage, words: Sequence[_Word]) -> int:
    """Return how well the name of a command or an option matches; its text alone does not."""
    named = sum(entry.title in word.names for word in words)
    parts = [singular(part) for part in entry.title.strip("-").split("-")]
    in_part = sum(word.part in parts for word in words)
    there = sum(bool(word.in_text.search(entry.text)) for word in words)
    if not (named or in_part) or 2 * there < len(words) > 1:
        return 0
    return _WORD_WEIGHT * (2 * named + in_part) + there


def _score_of_passage(passage: _Passage, words: Sequence[_Word]) -> int:
    """Return how much a passage is about words: those that it contains, and how often."""
    counts = [len(word.in_text.findall(passage.text)) for word in words]
    in_title = sum(bool(word.in_text.search(passage.title)) for word in words)
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
