"""`completion`: what a shell needs to complete commands and options."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Iterator
from importlib import import_module

from willow_cart.exits import Exit

BRIEF = "have a shell complete commands and options"
DESCRIPTION = (
    "Print what has a shell complete commands, options and their choices. For bash:"
    " 'willow-cart completion bash > ~/.local/share/bash-completion/completions/willow-cart'; for"
    " zsh write it to a file _willow-cart in a folder of $fpath; for fish to"
    " ~/.config/fish/completions/willow-cart.fish."
)

Commands = dict[str, tuple[str, list[argparse.Action]]]
"""What each command does, and its options."""


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what completion understands."""
    command.add_argument("shell", choices=["bash", "zsh", "fish"], help="bash, zsh or fish")


def run(args: argparse.Namespace) -> int:
    """Print the completion of a shell."""
    write = {"bash": _bash, "zsh": _zsh, "fish": _fish}[args.shell]
    print("\n".join(write(_commands())))
    return Exit.GOOD


def _commands() -> Commands:
    """Every command with what it does and its options."""
    from willow_cart.cli.main import commands_of, make_parser

    return {
        name: (
            import_module(f"willow_cart.cli.{name}").BRIEF,
            [each for each in parser._actions if each.option_strings],  # noqa: SLF001  # as there
        )
        for name, parser in commands_of(make_parser()).items()
    }


def _long(action: argparse.Action) -> str:
    return action.option_strings[-1]


def _choices(action: argparse.Action) -> list[str]:
    return [*map(str, action.choices or ())]


def _bash(commands: Commands) -> Iterator[str]:
    """A function for `complete -F` (bash(1), Programmable Completion)."""
    yield "_willow_cart() {"
    yield "  local word=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]}"
    yield "  local options= words="
    yield "  COMPREPLY=()"
    yield '  if [ "$word" = "=" ]; then word=; fi  # bash breaks words there'
    yield '  if [ "$before" = "=" ]; then before=${COMP_WORDS[COMP_CWORD-2]}; fi'
    yield '  if [ "$COMP_CWORD" = 1 ]; then'
    known = " ".join([*commands, "--help", "--version"])
    yield f'    COMPREPLY=($(compgen -W "{known}" -- "$word")); return'
    yield "  fi"
    yield '  case "${COMP_WORDS[1]} $before" in'
    for name, (_, actions) in commands.items():
        for action in actions:
            if choices := _choices(action):
                yield f'    "{name} {_long(action)}") words="{" ".join(choices)}" ;;'
    yield "  esac"
    yield '  if [ -n "$words" ]; then COMPREPLY=($(compgen -W "$words" -- "$word")); return; fi'
    yield '  case "${COMP_WORDS[1]}" in'
    for name, (_, actions) in commands.items():
        yield f'    {name}) options="{" ".join(map(_long, actions))}" ;;'
    yield "  esac"
    yield '  case "$word" in -*) COMPREPLY=($(compgen -W "$options" -- "$word")) ;; esac'
    yield "}"
    yield "complete -o default -F _willow_cart willow-cart"


def _zsh(commands: Commands) -> Iterator[str]:
    """A function for `compdef` (zshcompsys(1))."""

    def described(word: str, text: str) -> str:
        return shlex.quote(f"{word}:{text}".replace("\n", " "))

    yield "#compdef willow-cart"
    yield "local -a commands"
    yield "commands=("
    for name, (brief, _) in commands.items():
        yield f"  {described(name, brief)}"
    yield ")"
    yield "if (( CURRENT == 2 )); then _describe command commands; return; fi"
    yield "case $words[2] in"
    for name, (_, actions) in commands.items():
        yield f"  {name}) _arguments -s : \\"
        for action in actions:
            text = _plain(action).replace("[", "(").replace("]", ")").replace(":", ";")
            spec = f"*{_long(action)}" if action.nargs == 0 else f"*{_long(action)}="
            after = ""
            if action.nargs != 0:
                choices = _choices(action)
                after = f":value:({' '.join(choices)})" if choices else ":value:_files"
            yield f"    {shlex.quote(f'{spec}[{text}]{after}')} \\"
        yield "    '*:file:_files' ;;"
    yield "esac"


def _fish(commands: Commands) -> Iterator[str]:
    """Lines for `complete` (fish's complete(1))."""
    for name, (brief, _) in commands.items():
        yield (
            f"complete -c willow-cart -n __fish_use_subcommand -f -a {name} -d {shlex.quote(brief)}"
        )
    for name, (_, actions) in commands.items():
        for action in actions:
            line = (
                f"complete -c willow-cart -n '__fish_seen_subcommand_from {name}'"
                f" -l {_long(action).removeprefix('--')} -d {shlex.quote(_plain(action))}"
            )
            if action.nargs != 0:
                choices = _choices(action)
                line += f" -x -a {shlex.quote(' '.join(choices))}" if choices else " -r"
            yield line


def _plain(action: argparse.Action) -> str:
    """What an option does, in a few words."""
    text = (action.help or "") % {"default": action.default, "prog": "willow-cart"}
    return text.partition(";")[0].partition(":")[0]
