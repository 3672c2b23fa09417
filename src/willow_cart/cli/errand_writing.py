"""Writing an errand from what was typed, to begin with."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator, Sequence
from importlib import import_module
from pathlib import Path

from willow_cart.cli.connecting import without_fields
from willow_cart.errors import BadOption
from willow_cart.redaction import without_secrets
from willow_cart.replacing import replacing

VALUES_HINT = """
# What changes from run to run can stand in any text by its name: {month}, or {month:%Y%m}.
# [values]
# month = "{last_month}"
"""

ARRIVALS_HINT = """
# What is done once all has come, in order: unpack, combine, pack, receipt or run.
# [[arrival]]
# combine = "all.sqlite"
"""


def add_writing(command: argparse.ArgumentParser) -> None:
    """Add what has an errand written."""
    command.add_argument(
        "--write-errand",
        type=Path,
        metavar="FILE",
        help="write what is typed here into a file as an errand, to be run again from there",
    )


def write_errand(path: Path, command: str, words: Sequence[str]) -> None:
    """Write an errand that does what a command does.

    Args:
        path: the errand's file.
        command: `load` or `haul`.
        words: what was typed behind it.

    Raises:
        BadOption: there is such a file already.
        CannotStore: it cannot be written.
    """
    from willow_cart.cli.telling import tell

    if path.exists():
        raise BadOption(f"--write-errand {path}", "is there already", "name a new file")
    _require_no_secrets(words)
    with replacing(path) as text:
        text.writelines(f"{line}\n" for line in _lines(command, words))
        text.write(VALUES_HINT + ARRIVALS_HINT)
    tell(f"written to {path}; willow-cart errand {path} --preview shows what it does")


def _require_no_secrets(words: Sequence[str]) -> None:
    """Refuse what was typed if an errand would hold a secret that was typed.

    Raises:
        BadOption: it would.
    """
    for word, bare, shown in zip(
        words, without_fields(words), map(without_secrets, words), strict=True
    ):
        if bare != word:
            raise BadOption(
                "--write-errand", "the value of --header would be written out",
                "give it as env:NAME or file:PATH",
            )  # fmt: skip
        if shown != word:
            raise BadOption(
                "--write-errand", f"{shown} holds a secret, which would be written out",
                "write the errand without it, and put {env[NAME]} in its place",
            )  # fmt: skip


def _lines(command: str, words: Sequence[str]) -> Iterator[str]:
    from willow_cart.cli.errand_job import options_of

    parser = argparse.ArgumentParser(add_help=False, allow_abbrev=False)
    import_module(f"willow_cart.cli.{command}").add_options(parser)
    for action in parser._actions:  # noqa: SLF001  # there is no public way to them
        action.type = None  # every value as it was typed
    typed = vars(parser.parse_args(words))
    # Whatever is relative is relative to the errand's file then.
    yield f"into = {json.dumps(str(typed.get('into', 'data')))}"
    for key in ("note", "cart"):
        if typed.get(key):
            yield f"{key} = {json.dumps(typed[key], ensure_ascii=False)}"
    yield from ("", "[[source]]", f"at = {json.dumps(typed['sources'], ensure_ascii=False)}")
    for table in ("source", "connecting", "haul", "filing"):
        keys = [
            f"{key} = {json.dumps(typed[action.dest], ensure_ascii=False)}"
            for key, action in options_of(table).items()
            if action.dest in typed
            and typed[action.dest] not in (action.default, str(action.default))
        ]
        if keys and table != "source":
            yield from ("", f"[{table}]")
        yield from keys
