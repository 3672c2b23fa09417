"""Plain words: phrases that read like riddles do not come back, in code, messages or documents."""

from __future__ import annotations

import io
import re
import tokenize
from collections.abc import Iterator
from pathlib import Path

from tests.support.docs import ROOT

PHRASES = (
    "nobody", "whoever", "somebody", "anybody", "in vain", "all the same", "under way",
    "broken off", "spoken here", "not to be had", "mend", "mended", "keeper", "is no moment",
    "is no address", "does not say what it is", "again and again", "nothing chosen", "so many",
    "what came of", "what comes of", "held against", "done away", "by now", "the person",
    "to be had", "spoken", "put aside", "goes on from", "come home", "comes home",
)  # fmt: skip
"""What a colleague would stop at; the glossary in the guide has the words of the product."""

_FOUND = re.compile(rf"\b({'|'.join(map(re.escape, PHRASES))})\b", re.IGNORECASE)

PAGES = sorted(
    path
    for path in (
        *(ROOT / "src").rglob("*.py"),
        *(ROOT / "src").rglob("*.md"),
        *(ROOT / "docs").glob("*.md"),
        *ROOT.glob("*.md"),
    )
    # The stored text of a ledger's schema stays as it is.
    if path.name != "schema.py"
    # The demo's texts are those of a made-up trust; past changes are told as they were.
    if "demo" not in path.parts and path.name != "CHANGELOG.md"
)


KINDS = (
    r"what (?:the ledger|the place) says", r"the (?:error|text) says", r"(?:is|was|are) said to be",
    r"does not say(?! )", r"likewise", r"blanks", r"anew",
    r"lies (?:in|below|there|at|where|under)",
    r"cannot lie", r"(?:do|does) not lie", r"on (?:its|their|the) way", r"stands(?! for)",
    r"told (?:apart|of)", r"telling apart", r"behind (?:it|them|the last|the name)",
    r"places are talked to", r"talks to places", r"has nothing to say", r"in the midst",
    r"by the dozen", r"who asks", r"to whom", r"whatever it is called", r"says so", r"said so",
)  # fmt: skip
"""Kinds of sentences that a reader has to work out, as regular expressions."""

_OF_A_KIND = re.compile(rf"\b(?:{'|'.join(KINDS)})\b", re.IGNORECASE)


def _prose(page: Path) -> Iterator[tuple[int, str]]:
    """The numbered lines of a document, or of the comments and docstrings of a module."""
    text = page.read_text()
    if page.suffix != ".py":
        yield from enumerate(text.splitlines(), 1)
        return
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        is_docstring = token.type == tokenize.STRING and token.string.startswith('"""')
        if token.type == tokenize.COMMENT or is_docstring:
            yield from enumerate(token.string.splitlines(), token.start[0])


def test_sentences_need_no_second_reading() -> None:
    found = [
        f"{page.relative_to(ROOT)}:{number}: {hit[0]}"
        for page in PAGES
        for number, line in _prose(page)
        if (hit := _OF_A_KIND.search(line))
    ]
    assert found == []


def test_no_page_has_phrases_that_read_like_riddles() -> None:
    found = [
        f"{page.relative_to(ROOT)}:{number}: {hit[0]}"
        for page in PAGES
        for number, line in enumerate(page.read_text().splitlines(), 1)
        if (hit := _FOUND.search(line))
    ]
    assert found == []
