"""Write the typed keywords of the Python functions from the option table: `make docs`.

Editors and mypy know what is in a file, and nothing that is made when a program runs.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from keyword import iskeyword
from pathlib import Path

from willow_cart.commands.table import COMMANDS, NOT_KEYWORDS, Option
from willow_cart.options import readers as read

PAGE = Path(__file__).parent.parent / "src" / "willow_cart" / "scripting" / "keywords.py"

_HEAD = '''"""What the functions take besides their sources: the options of the commands, typed.

Made from the option table by `make docs`; not to be edited.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from os import PathLike
from typing import Literal, TypedDict

from willow_cart.sign_in.secrets import Secret

Words = str | Sequence[str]
File = str | PathLike[str]
Files = File | Sequence[File]
Amount = int | float | str
Moment = str | date | datetime
'''

_WIDTH = 100
"""The longest line of the project."""

_AMOUNTS = (read.size, read.speed, read.seconds)
_COUNTS = (read.positive, read.few, read.whole)
_FILES = frozenset({"FILE", "DIR", "FILE|ADDRESS"})


_CLASSES = {
    "SurveyKeywords": ("survey", "What `survey` and `load` understand."),
    "HaulKeywords": ("haul", "What `haul` understands."),
    "OfflineKeywords": ("offline", "What `offline` understands."),
    "KnockKeywords": ("knock", "What `knock` understands."),
    "PeekKeywords": ("peek", "What `peek` understands."),
    "PickKeywords": ("pick", "What `pick` understands."),
    "WeighKeywords": ("weigh", "What `weigh` understands."),
    "UnpackKeywords": ("unpack", "What `unpack` understands."),
    "CombineKeywords": ("combine", "What `combine` understands."),
    "PackKeywords": ("pack", "What `pack` understands."),
    "AuditKeywords": ("audit", "What `audit` understands."),
    "ReceiptKeywords": ("receipt", "What `receipt` understands."),
    "RefileKeywords": ("refile", "What `refile` understands."),
}


def render() -> str:
    """The module: a class for each group of options, and one of these for each function."""
    groups: dict[str, str] = {}
    functions = []
    for name, (command, text) in _CLASSES.items():
        bases, own = [], ""
        for home, group, options in COMMANDS[command].request.homes():
            fields = _fields(options)
            if not home:
                own += fields
            elif fields:
                bases.append(_name_of(group))
                groups[_name_of(group)] = _class(_name_of(group), [], _brief(group), fields)
        functions.append(_class(name, bases, text, own))
    return "\n\n".join([_HEAD, *groups.values(), *functions])


def _brief(group: type) -> str:
    return (group.__doc__ or "").partition("\n")[0]


def _name_of(group: type) -> str:
    """The name of a group's class of keywords."""
    return f"{group.__name__.removesuffix('s').removesuffix('Option')}Keywords"


def _class(name: str, bases: Sequence[str], text: str, fields: str) -> str:
    inherits = ", ".join([*(bases or ["TypedDict"]), "total=False"])
    body = f"\n{fields}" if fields else ""
    head = f"class {name}({inherits}):"
    if len(head) > _WIDTH:
        head = f"class {name}(\n    {inherits.replace(', ', f',{chr(10)}    ')},\n):"
    return f'{head}\n    """{text}"""\n{body}'


def _fields(options: Iterable[Option]) -> str:
    return "".join(
        _fitted(f"    {_keyword_of(each)}: {_type_of(each)}\n")
        for each in options
        if not (each.is_argument or each.is_required or each.key in NOT_KEYWORDS)
    )


def _fitted(line: str) -> str:
    """A field as the project's formatter writes it: a choice a line where they are many."""
    if len(line) <= _WIDTH or "Literal[" not in line:
        return line
    before, _, choices = line.rstrip("]\n").partition("Literal[")
    lines = "".join(f"        {each},\n" for each in choices.split(", "))
    return f"{before}Literal[\n{lines}    ]\n"


def _keyword_of(option: Option) -> str:
    """The name of a keyword; Python reserves some."""
    return option.dest if iskeyword(option.key) else option.key


def _type_of(option: Option) -> str:
    """The type of a keyword."""
    if option.keyword:
        return option.keyword
    if option.is_flag:
        return "bool"
    if option.is_secret:
        return "str | Secret"
    if option.choices:
        return f"Literal[{', '.join(map(repr, option.choices))}]".replace("'", '"')
    if option.read in (read.depth, read.pages):
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
