"""Writing an errand from what was typed, to begin with."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from willow_cart.cli.arguments import add_arguments
from willow_cart.cli.connecting import without_fields
from willow_cart.cli.telling import tell
from willow_cart.errors import BadOption
from willow_cart.jobs import COMMANDS, Option
from willow_cart.jobs.tables import options_of, options_of_command
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
    option = ""
    for word, bare, shown in zip(
        words, without_fields(words), map(without_secrets, words), strict=True
    ):
        option = word.partition("=")[0] if word.startswith("--") else option
        if bare != word:
            raise BadOption(
                "--write-errand", f"the value of {option} would be written out",
                "give it as env:NAME or file:PATH",
            )  # fmt: skip
        if shown != word:
            raise BadOption(
                "--write-errand", f"{shown} holds a secret, which would be written out",
                "write the errand without it, and put {env[NAME]} in its place",
            )  # fmt: skip


def _lines(command: str, words: Sequence[str]) -> Iterator[str]:

    parser = argparse.ArgumentParser(add_help=False, allow_abbrev=False)
    add_arguments(parser, COMMANDS[command], raw=True)
    typed = vars(parser.parse_args(words))
    # Whatever is relative is relative to the errand's file then.
    yield f"into = {_quoted(str(typed.get('into', 'data')))}"
    for key in ("note", "cart"):
        if typed.get(key):
            yield f"{key} = {_quoted(typed[key])}"
    yield from ("", "[[source]]", f"at = {_quoted(typed['sources'])}")
    for table in ("source", "connecting", "haul", "filing"):
        options = options_of(table)
        if table == "haul" and not (typed.get("inspect") or typed.get("as_") == "archive"):
            del options["swell_at_most"]  # that is about the archives of the step below
        keys = list(_keys(options, typed))
        if keys and table != "source":
            yield from ("", f"[{table}]")
        yield from keys
    if typed.get("unpack"):
        options = options_of_command("unpack", ("unpacking",))
        if typed["unpack_to"] is not None:
            options["name_parts"] = options_of("unpack")["name_parts"]
        yield from ("", "[[arrival]]", f"unpack = {_quoted(typed['unpack'])}")
        yield from _keys(options, typed)


def _keys(options: Mapping[str, Option], typed: Mapping[str, object]) -> Iterator[str]:
    """What was typed of some options, as the lines of a table."""
    for key, option in options.items():
        value = typed.get(option.dest, option.default)
        if value not in (option.default, str(option.default)):
            yield f"{key} = {_quoted(value)}"


def _quoted(value: object) -> str:
    return json.dumps(value, ensure_ascii=False)
