"""Plain words: phrases that read like riddles do not come back, in code, messages or documents."""

from __future__ import annotations

import re

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
    # The demo's texts are those of a made-up trust; past changes are told as they were.
    if "demo" not in path.parts and path.name != "CHANGELOG.md"
)


def test_no_page_has_phrases_that_read_like_riddles() -> None:
    found = [
        f"{page.relative_to(ROOT)}:{number}: {hit[0]}"
        for page in PAGES
        for number, line in enumerate(page.read_text().splitlines(), 1)
        if (hit := _FOUND.search(line))
    ]
    assert found == []
