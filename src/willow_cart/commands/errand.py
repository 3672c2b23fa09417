"""Write an errand from a command."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.commands.request import ReachingRequest, without_value
from willow_cart.commands.table import COMMANDS, options_of, options_of_command
from willow_cart.errors import BadOption
from willow_cart.options import Option
from willow_cart.options.groups import LookingOptions
from willow_cart.options.option import OVERWRITE, Given, Request, argument, flag, option
from willow_cart.redaction import without_secrets
from willow_cart.replacing import replacing
from willow_cart.toml_file import toml_line


class ErrandRequest(ReachingRequest):
    """A request to run an errand, or to write one; how to look and choose is for the latter."""

    command = "errand"

    file: Path = argument(Path(), Path, "the errand", metavar="FILE")
    preview: bool = flag("show the values, what would be fetched, where it would go, and the steps")
    set: tuple[str, ...] = option(
        (),
        str,
        "set a value of the errand for this run",
        metavar="NAME=VALUE",
        many=True,
    )
    from_: str | None = option(
        None,
        str,
        "fetch nothing and start with this step: its number or its name, such as combine",
        metavar="STEP",
    )
    new: tuple[str, ...] | None = option(
        None,
        str,
        "create the file: an errand for this source, with what it offers in comments, and with "
        "the options for looking, choosing and signing in that you give",
        metavar="SOURCE",
        nargs="+",
    )
    summary: Path | None = option(
        None, Path, "write a one-line summary of the result to a file", metavar="FILE"
    )
    overwrite: bool = OVERWRITE
    looking: LookingOptions = LookingOptions()
    choosing: Choosing = Choosing()


# What makes no sense in unattended runs, or is about the run that writes the errand.
_NOT_OF_ERRANDS = ("preview", "detach", "write_errand", "add", "to_script", "overwrite")

_CRON_HINT = '  # "file:PATH" for a timetable: cron sets no variables'

VALUES_HINT = """
# What changes from run to run can stand in any text by its name: {month}, or {month:%Y%m}.
# [values]
# month = "{last_month}"
"""

STEPS_HINT = """
# Steps once all files have arrived, in order: unpack, combine, pack, receipt or run.
# [[step]]
# combine = "all.sqlite"
"""


def write_errand(path: Path, request: Request) -> None:
    """Write an errand that is equivalent to a request.

    Args:
        path: the errand's file.
        request: of `load` or `haul`.

    Raises:
        BadOption: there is such a file already, or it would hold a secret.
        CannotStore: it cannot be written.
    """
    if path.exists():
        raise BadOption(f"--write-errand {path}", "already exists", "name a new file")
    given = dict(request.given)
    require_no_secrets("--write-errand", given, COMMANDS[request.command].by_key())
    lines = list(_lines(given))
    with replacing(path) as text:
        text.writelines(f"{line}\n" for line in lines)
        text.write(VALUES_HINT + STEPS_HINT)


def require_no_secrets(what: str, given: Given, options: Mapping[str, Option]) -> None:
    """Refuse a request with a secret that the errand would contain.

    Args:
        what: the option that writes the errand.
        given: the typed texts.
        options: of the command, by their keys.

    Raises:
        BadOption: it would.
    """
    for key, texts in given.items():
        for text in texts:
            if without_value(options[key], text) != text:
                raise BadOption(
                    what,
                    f"the value of {options[key].flag} would be stored in the file",
                    "give it as env:NAME or file:PATH",
                )  # fmt: skip
            if (shown := without_secrets(text)) != text:
                raise BadOption(
                    what,
                    f"{shown} contains a secret, which would be stored in the file",
                    "write the errand without it, and put {env[NAME]} in its place",
                )  # fmt: skip


def _lines(given: dict[str, tuple[str, ...]]) -> Iterator[str]:
    """Yield the lines of an errand; options are removed from the dictionary as they are written."""
    # Whatever is relative is relative to the errand's file then.
    yield toml_line("into", given.pop("into", ("data",))[0])
    for key in ("note", "cart"):
        if key in given:
            yield toml_line(key, given.pop(key)[0])
    yield from ("", "[[source]]", toml_line("from", given.pop("sources")))
    archives = given.pop("unpack", ())
    step = _taken_out(given) if archives else {}
    for table in ("source", "connecting", "haul", "filing"):
        options = options_of(table)
        keys = list(_keys(options, {key: given.pop(key) for key in options if key in given}))
        if keys and table != "source":
            yield from ("", f"[{table}]")
        yield from keys
    if archives:
        yield from ("", "[[step]]", toml_line("unpack", archives))
        yield from _keys(options_of("unpack"), step)
    if missing := [key for key in given if key not in _NOT_OF_ERRANDS]:
        raise BadOption("--write-errand", f"has no place for {', '.join(missing)}", "leave it out")


def _taken_out(given: dict[str, tuple[str, ...]]) -> Given:
    """Remove and return the options for unpacking, which become a step."""
    keys = [
        *options_of_command("unpack", ("unpacking",)),
        *("name_parts",) * ("unpack_to" in given),
    ]
    step = {key: given[key] for key in keys if key in given}
    of_haul_too = {
        "name_parts": "file_as" in given,
        "unpacked_at_most": "inspect" in given or given.get("as") == ("archive",),
    }
    for key in step:
        if not of_haul_too.get(key):
            del given[key]
    return step


def keys_of(table: str, given: Given) -> list[str]:
    """Return the lines of a table for the options among those given that are keys of it."""
    options = options_of(table)
    return list(_keys(options, {key: given[key] for key in options if key in given}))


def _keys(options: Mapping[str, Option], given: Given) -> Iterator[str]:
    """Yield the lines for the given options of a table."""
    for key, texts in given.items():
        option = options[key]
        value = True if option.is_flag else texts if option.takes_several else texts[0]
        hint = _CRON_HINT if option.is_secret and str(value).startswith("env:") else ""
        if value != str(option.default):
            yield toml_line(key, value) + hint
