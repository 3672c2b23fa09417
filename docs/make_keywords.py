"""Write the typed keywords of the Python functions from the option table: `make docs`.

Editors and mypy know what is in a file, and nothing that is made when a program runs.
"""

from __future__ import annotations

from collections.abc import Iterable
from keyword import iskeyword
from pathlib import Path

from willow_cart.jobs import COMMANDS, Option
from willow_cart.jobs import readers as read
from willow_cart.scripting.calls import NOT_KEYWORDS

PAGE = Path(__file__).parent.parent / "src" / "willow_cart" / "scripting" / "options.py"

_HEAD = '''"""What the functions take besides their sources: the options of the commands, typed.

Made from the option table by `make docs`; not to be edited.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from os import PathLike
from typing import Literal, TypedDict

Words = str | Sequence[str]
File = str | PathLike[str]
Files = File | Sequence[File]
Amount = int | float | str
Moment = str | date | datetime
'''

_AMOUNTS = (read.size, read.speed, read.seconds)
_COUNTS = (read.positive, read.few, read.whole)
_FILES = frozenset({"FILE", "DIR", "FILE|ADDRESS"})


def render() -> str:
    """The module."""
    classes = {
        "SurveyOptions": ("survey", "What `survey` and `load` understand."),
        "HaulOptions": ("haul", "What `haul` understands."),
        "AuditOptions": ("audit", "What `audit` understands."),
    }
    parts = [_HEAD]
    for name, (command, text) in classes.items():
        parts.append(_class(name, text, COMMANDS[command].options()))
    return "\n\n".join(parts)


def _class(name: str, text: str, options: Iterable[Option]) -> str:
    fields = [
        f"    {_keyword_of(each)}: {_type_of(each)}\n"
        for each in options
        if each.key not in NOT_KEYWORDS
    ]
    return f'class {name}(TypedDict, total=False):\n    """{text}"""\n\n{"".join(fields)}'


def _keyword_of(option: Option) -> str:
    """The name of a keyword; Python reserves some."""
    return option.dest if iskeyword(option.key) else option.key


def _type_of(option: Option) -> str:
    """The type of a keyword."""
    if option.keyword:
        return option.keyword
    if option.is_flag:
        return "bool"
    if option.choices:
        return f"Literal[{', '.join(map(repr, option.choices))}]".replace("'", '"')
    if option.read is read.depth:
        return 'int | Literal["all"]'
    if option.read is read.strands:
        return 'int | Literal["auto"]'
    if option.read in _AMOUNTS:
        return "Amount"
    if option.read in _COUNTS:
        return "int"
    is_file = option.read is Path or option.metavar in _FILES
    if option.many:
        return "Files" if is_file else "Words"
    return "File" if is_file else "str"


if __name__ == "__main__":
    PAGE.write_text(render(), encoding="utf-8")
