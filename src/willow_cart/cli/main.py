"""The program `willow-cart`: its parser, and what all commands share."""

from __future__ import annotations

import argparse
import io
import os
import re
import sys
import threading
from collections.abc import Iterable, Sequence
from contextlib import suppress
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import Any, NoReturn

from willow_cart.addresses import looks_like_address
from willow_cart.cli.arguments import (
    EVERYDAY,
    HelpAction,
    add_arguments,
    given_by,
    make_short_help,
    typed_words,
    usage_of,
)
from willow_cart.cli.screen import show_line, tell
from willow_cart.commands.settings import settings_for
from willow_cart.commands.table import COMMANDS
from willow_cart.errors import Exit, InternalError, WillowCartError, code_for, plainly
from willow_cart.redaction import without_secrets
from willow_cart.synonyms import command_for, option_for
from willow_cart.version import __version__

DESCRIPTION = (
    "Download many files from lists, web pages and folders: list, choose, fetch with resume, "
    "check, file, and record what came from where."
)
GREETING = """\
Willow Cart downloads many files: it lists what pages, folders, lists, FTP servers and buckets
offer, fetches what you choose, checks it, files it, and records what came from where.

Begin with:
  willow-cart survey ADDRESS                list what is there; nothing is fetched
  willow-cart haul ADDRESS --into FOLDER    fetch it; the same command resumes, and updates
  willow-cart receipt FOLDER                what came from where, and how it was checked

  willow-cart demo --serve                  servers on this machine to try this on
  willow-cart help                          the guide; help WORDS finds something in it
  willow-cart --help                        all commands"""

EXIT_CODES = (
    "Exit codes: 0 all arrived or was here already; 1 something did not arrive; 2 the command was"
    " not understood; 3 nothing matched; 4 something arrived but failed its check; 130 interrupted:"
    " run the same command again to go on."
)


# What is asked for is read by programs if one of these is.
_FOR_PROGRAMS = ("json", "csv", "manifest")


class _Parser(argparse.ArgumentParser):
    """A parser that reports errors in one line.

    Attributes:
        is_of_command: whether it reads the words of one command.
    """

    is_of_command = False
    _words: Sequence[str] = ()

    def parse_known_args(  # type: ignore[override]  # it is only called so
        self, args: Sequence[str] | None = None, namespace: argparse.Namespace | None = None
    ) -> tuple[argparse.Namespace, list[str]]:
        """Parse words; report an unknown one with a suggestion."""
        self._words = [*(args or ())]
        read, unknown = super().parse_known_args(args, namespace)
        if unknown and self.is_of_command:
            self._report_unknown(unknown[0])
        return read, unknown

    def _report_unknown(self, word: str) -> NoReturn:
        """Report an unknown word, with a suggestion."""
        name = word.partition("=")[0]
        if not word.startswith("-"):
            self._report_unexpected(word)
        told = f"unknown option {name}"
        if meant := option_for(name, self._option_string_actions):
            self._refuse(f"{told}; did you mean {meant}?")
        command = self.prog.split()[-1]
        if other := _command_with(name, command):
            self._refuse(f"{told} for {command}; did you mean willow-cart {other}?")
        self.error(told)

    def _report_unexpected(self, word: str) -> NoReturn:
        told = f"unexpected argument {word}"
        if Path(word).is_file():
            self._refuse(f"{told}, a file here; if it comes from a wildcard, put that in quotes")
        if "--into" in self._option_string_actions and not looks_like_address(word):
            self._refuse(f"{told}; to download into a folder, use --into {word}")
        self.error(told)

    def error(self, message: str) -> NoReturn:
        mistyped = re.search(r"COMMAND: invalid choice: '([^']*)'", message)
        if mistyped:
            self._report_unknown_command(mistyped[1])
        if message.startswith("argument "):
            self._refuse(message.removeprefix("argument "))
        missing = message.partition("the following arguments are required: ")[2]
        if missing and self.is_of_command:
            self._report_missing(missing)
        self._refuse(f"{message}; see {self.prog} --help")

    def _report_missing(self, missing: str) -> None:
        """Report what a mistyped or misplaced word stands for, if that is what is missing."""
        for word in self._words:
            name = word.partition("=")[0]
            if name.startswith("-") and name not in self._option_string_actions:
                self._report_unknown(word)
        last = self._words[-1] if len(self._words) > 1 else ""
        is_value = bool(last) and self._words[-2] in self._option_string_actions
        is_source = looks_like_address(last) or Path(last).is_file()
        if missing == "--into" and last and not (is_value or is_source):
            self._refuse(f"--into is missing; to download into {last}, use --into {last}")
        several = missing.split(", ")
        verb = "is" if len(several) == 1 else "are"
        self._refuse(f"{' and '.join(several)} {verb} missing; see {self.prog} --help")

    def _report_unknown_command(self, word: str) -> NoReturn:
        """Report an unknown command, with a suggestion."""
        if looks_like_address(word) or Path(word).exists():
            self._refuse(
                f"{word}: not a command; use willow-cart survey {word}, or"
                f" willow-cart haul {word} --into FOLDER"
            )
        meant = command_for(word, COMMANDS)
        more = f'did you mean "{meant}"?' if meant else f"see {self.prog} --help"
        self._refuse(f'unknown command "{word}"; {more}')

    def _refuse(self, message: str) -> NoReturn:
        self.exit(Exit.NOT_UNDERSTOOD, f"willow-cart: {message}\n")


def _command_with(option: str, command: str) -> str:
    """Return another command that has an option, or that its name stands for; empty for none."""
    if meant := command_for(option.lstrip("-"), COMMANDS):
        return "" if meant == command else meant
    for name, each in COMMANDS.items():
        if any(one.flag == option for one in each.options()):
            return f"{name} {option}"
    return ""


def make_parser(
    names: Iterable[str] = COMMANDS, *, with_options: bool = True
) -> argparse.ArgumentParser:
    """Return a parser; only the named commands get their options, the others only their names."""
    parser = _Parser(
        prog="willow-cart",
        description=DESCRIPTION,
        epilog=EXIT_CODES,
        allow_abbrev=False,
    )
    parser.add_argument("--version", action="version", version=f"willow-cart {__version__}")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for name in names:
        command = COMMANDS[name]
        added = commands.add_parser(
            name,
            help=command.brief,
            description=command.description,
            usage=usage_of(parser.prog, command) if with_options else None,
            allow_abbrev=False,
            add_help=False,
        )
        added.is_of_command = True
        added.add_argument(
            "-h",
            "--help",
            action=HelpAction,
            nargs="?",
            metavar="all",
            default=argparse.SUPPRESS,
            short=partial(make_short_help, parser.prog, command) if name in EVERYDAY else None,
            help="show this help, with all options; without all, the everyday ones",
        )
        if with_options:
            add_arguments(added, command)
        added.set_defaults(command=name)
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command and return its exit code; errors are printed in one line."""
    words = typed_words() if arguments is None else arguments
    threading.excepthook = _tell_of_thread
    if sys.stdout is None:
        sys.stdout = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115  # it was closed
    if isinstance(sys.stdout, io.TextIOWrapper):
        # A name that the terminal's encoding lacks is written out rather than an end of the run.
        sys.stdout.reconfigure(errors="backslashreplace")
        _outlive_reader(sys.stdout)
    try:
        return _run(words)
    except WillowCartError as error:
        tell(error)
        return code_for(error)
    except KeyboardInterrupt:
        tell("interrupted; nothing was changed")
        return Exit.INTERRUPTED
    except OSError as error:
        _close_output()
        tell(f"{_named(error)}: {plainly(error)}")
        return Exit.INCOMPLETE
    except Exception as error:  # what reaches here is a fault of this program
        if isinstance(error.__cause__, KeyboardInterrupt):  # while a class was made (3.11)
            tell("interrupted; nothing was changed")
            return Exit.INTERRUPTED
        tell(InternalError.of("willow-cart", error))
        return Exit.INCOMPLETE


class _Output(io.FileIO):
    """Standard output, whose reader may leave (`| head`); the command goes on to its true end."""

    def write(self, data: Any) -> int:
        """Write bytes; nothing more once the reader is gone."""
        try:
            return super().write(data)
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), self.fileno())
            return len(data)


def _outlive_reader(output: io.TextIOWrapper) -> None:
    """Replace standard output by one that bears that its reader is gone."""
    raw = getattr(output.buffer, "raw", output.buffer)  # the same if nothing is buffered
    if output is not sys.__stdout__ or not isinstance(raw, io.FileIO) or raw.isatty():
        return
    lasting = _Output(raw.fileno(), "wb", closefd=False)
    sys.stdout = io.TextIOWrapper(
        lasting if raw is output.buffer else io.BufferedWriter(lasting),
        encoding=output.encoding,
        errors=output.errors,
        newline=None,
        write_through=output.write_through,
    )


def _write_for_programs() -> None:
    """Write UTF-8 with the ends of lines as they are given, whatever the system has for text.

    JSON has no other encoding (RFC 8259, 8.1), and a carriage return would be doubled.
    """
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(encoding="utf-8", newline="")


def _named(error: OSError) -> str:
    """Return what an operating system error is about."""
    if error.filename is None:
        return "standard output"
    return without_secrets(os.fsdecode(error.filename))


def _close_output() -> None:
    """Prevent a second error at exit when standard output is closed."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _tell_of_thread(raised: threading.ExceptHookArgs) -> None:
    """Report an exception in a thread, without the values of its variables."""
    if raised.exc_value is not None:
        tell(
            InternalError.of(raised.thread.name if raised.thread else "a thread", raised.exc_value)
        )


def _run(words: Sequence[str]) -> int:
    """Parse the words of a command and run it.

    Raises:
        WillowCartError, KeyboardInterrupt, OSError: as the command does.
    """
    if not words:
        for line in GREETING.splitlines():
            show_line(line)
        return Exit.GOOD
    # Half of the start-up time would be spent on the other commands.
    asked = [name for name in words[:1] if name in COMMANDS]
    args = make_parser(asked or COMMANDS, with_options=bool(asked)).parse_args(words)
    command = COMMANDS[args.command]
    request = command.request.read(
        given_by(args, command), settings_for(command.name), tuple(words)
    )
    if any(getattr(request, form, None) for form in _FOR_PROGRAMS):
        _write_for_programs()
    code: int = import_module(f"willow_cart.cli.commands.{command.name}").run(request)
    sys.stdout.flush()
    return code
