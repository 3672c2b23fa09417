"""The options that are keys in tables of errands and settings, or keywords in Python."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from willow_cart.options.option import Option
from willow_cart.requests.commands import COMMANDS

STEPS = ("unpack", "combine", "pack", "receipt", "run")
"""What can be done with arrivals, by the key that names it."""

# Options that say what an errand says elsewhere, or that make no sense in unattended runs.
_ELSEWHERE = frozenset({"into", "cart", "add", "preview", "detach", "write_errand", "note"})
_CHOOSING_GROUPS = ("looking", "choosing", "sign-in")
_NOT_OF_HAULS = (*_CHOOSING_GROUPS, "connecting", "unpacking")

NOT_KEYWORDS = frozenset(
    (
        "into cart add preview detach write_errand to_script overwrite why json csv tree folders"
        " levels cluster"
    ).split()
)
"""What Python functions say by arguments of their own, and forms that are for users."""

TABLES: Mapping[str, tuple[str, Sequence[str], Sequence[str]]] = {
    "source": ("load", _CHOOSING_GROUPS, ()),
    "connecting": ("load", ("connecting",), ()),
    "haul": ("haul", (), _NOT_OF_HAULS),
    "filing": ("refile", (), ()),
    **{what: (what, (), ()) for what in STEPS if what != "run"},
}
"""Whose options are keys of a table or a step: a command's, of some groups, without some."""


def options_of_command(
    command: str, groups: Sequence[str] = (), without: Sequence[str] = ()
) -> dict[str, Option]:
    """Return the options of a command by key, for all groups or some."""
    return {
        option.key: option
        for group in COMMANDS[command].groups()
        if (not groups or group.title in groups) and group.title not in without
        for option in group.options
    }


def options_of(table: str) -> dict[str, Option]:
    """Return the options that a table of an errand, or a step, may have, by key."""
    options = {
        key: option
        for key, option in options_of_command(*TABLES[table]).items()
        if key not in _ELSEWHERE
    }
    if table == "haul":
        for key in options_of("filing"):  # where files go is said there
            options.pop(key, None)
        # What is unpacked is said by steps; hauls open archives also to look into them.
        options["swell_at_most"] = options_of("unpack")["swell_at_most"]
    return options
