"""`completion`: the scripts with which shells complete commands and options."""

from __future__ import annotations

import shlex
from collections.abc import Iterator

from willow_cart.cli.screen import show_text
from willow_cart.commands.program import CompletionRequest
from willow_cart.commands.table import COMMANDS
from willow_cart.errors import Exit
from willow_cart.options import Option


def run(request: CompletionRequest) -> int:
    """Print the completion script for a shell."""
    write = {"bash": _bash, "zsh": _zsh, "fish": _fish}[request.shell]
    show_text("\n".join(write()))
    return Exit.GOOD


def _bash() -> Iterator[str]:
    """Yield a function for `complete -F` (bash(1), Programmable Completion)."""
    yield "_willow_cart() {"
    yield "  local word=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]}"
    yield "  local options= words="
    yield "  COMPREPLY=()"
    yield '  if [ "$word" = "=" ]; then word=; fi  # bash breaks words there'
    yield '  if [ "$before" = "=" ]; then before=${COMP_WORDS[COMP_CWORD-2]}; fi'
    yield '  if [ "$COMP_CWORD" = 1 ]; then'
    known = " ".join([*COMMANDS, "--help", "--version"])
    yield f'    COMPREPLY=($(compgen -W "{known}" -- "$word")); return'
    yield "  fi"
    yield '  case "${COMP_WORDS[1]} $before" in'
    for name, command in COMMANDS.items():
        for option in command.options():
            if option.choices:
                yield f'    "{name} {option.flag}") words="{" ".join(option.choices)}" ;;'
    yield "  esac"
    yield '  if [ -n "$words" ]; then COMPREPLY=($(compgen -W "$words" -- "$word")); return; fi'
    yield '  case "${COMP_WORDS[1]}" in'
    for name, command in COMMANDS.items():
        flags = " ".join(["--help", *(option.flag for option in command.options())])
        yield f'    {name}) options="{flags}" ;;'
    yield "  esac"
    yield '  case "$word" in -*) COMPREPLY=($(compgen -W "$options" -- "$word")) ;; esac'
    yield "}"
    yield "complete -o default -F _willow_cart willow-cart"


def _zsh() -> Iterator[str]:
    """Yield a function for `compdef` (zshcompsys(1))."""

    def described(word: str, text: str) -> str:
        return shlex.quote(f"{word}:{text}".replace("\n", " "))

    yield "#compdef willow-cart"
    yield "local -a commands"
    yield "commands=("
    for name, command in COMMANDS.items():
        yield f"  {described(name, command.brief)}"
    yield ")"
    yield "if (( CURRENT == 2 )); then _describe command commands; return; fi"
    yield "case $words[2] in"
    for name, command in COMMANDS.items():
        yield f"  {name}) _arguments -s : \\"
        for option in command.options():
            text = _plain(option).replace("[", "(").replace("]", ")").replace(":", ";")
            spec = f"*{option.flag}" if option.is_flag else f"*{option.flag}="
            after = ""
            if not option.is_flag:
                choices = " ".join(option.choices)
                after = f":value:({choices})" if choices else ":value:_files"
            yield f"    {shlex.quote(f'{spec}[{text}]{after}')} \\"
        yield "    '*:file:_files' ;;"
    yield "esac"


def _fish() -> Iterator[str]:
    """Yield lines for `complete` (fish's complete(1))."""
    for name, command in COMMANDS.items():
        yield (
            f"complete -c willow-cart -n __fish_use_subcommand -f -a {name}"
            f" -d {shlex.quote(command.brief)}"
        )
    for name, command in COMMANDS.items():
        for option in command.options():
            line = (
                f"complete -c willow-cart -n '__fish_seen_subcommand_from {name}'"
                f" -l {option.flag.removeprefix('--')} -d {shlex.quote(_plain(option))}"
            )
            if not option.is_flag:
                choices = " ".join(option.choices)
                line += f" -x -a {shlex.quote(choices)}" if choices else " -r"
            yield line


def _plain(option: Option) -> str:
    """Return a short description of an option."""
    return option.text.partition(";")[0].partition(":")[0]
