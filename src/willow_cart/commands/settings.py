"""Settings of a user or of a project folder.

What is typed comes first, then what an errand says, then the project's file, then the user's own.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from willow_cart.commands.table import COMMANDS, options_of
from willow_cart.errors import BadOption
from willow_cart.options.option import Given, Request, flag, given_in, together
from willow_cart.platform.own_folders import settings_folder
from willow_cart.structs import Value
from willow_cart.toml_file import Table, TomlFile


class SettingsRequest(Request):
    """A request for the settings."""

    command = "settings"

    all: bool = flag("also show the defaults of settings that are not set")
    json: bool = flag("print JSON")


PROJECT_FILE = "willow-cart.toml"
"""What a project's folder keeps its settings in; looked for in the current folder alone."""

TABLES = ("connecting", "haul", "filing")
"""The tables of settings, with the same keys as in errands."""

# Who hands a folder on hands its file on. So these are all the keys that a project may set: how
# fast, how patiently and how strictly files come, and where below the destination they go.
_PROJECT_TABLES = ("haul", "filing")
_PROJECT_KEYS = frozenset({
    "times", "find_checksums", "must_check", "inspect", "lanes", "lanes_per_host", "strands", "gap",
    "one_by_one", "speed_cap", "attempts", "pause", "longest_wait", "stall_after", "slowest",
    "time_per_file", "largest", "layout", "file_as", "skip_folders", "name_parts",
})  # fmt: skip

# The commands that settings are for: hauls for all of them, the others for how servers are reached.
_REACHING = ("survey", "peek", "load", "audit", "knock", "offline")


def own_file() -> Path:
    """Return the path of the user's settings file."""
    return settings_folder() / "config.toml"


class Setting(Value):
    """A setting and where it is set.

    Attributes:
        key: its name.
        value: as it is there.
        place: the file.
        line: where in it.
    """

    table: str
    key: str
    value: object
    place: Path
    line: int


def settings_in(folder: Path) -> Iterator[Setting]:
    """Return all settings in effect in a folder, in ascending precedence.

    Raises:
        BadOption: a file of settings cannot be read, or has an unknown key or value.
    """
    own, project = own_file(), folder / PROJECT_FILE
    yield from _settings_of(own, TABLES, ("sign_in",))
    yield from _settings_of(project, _PROJECT_TABLES, ())


def settings_for(command: str, folder: Path | None = None) -> Given:
    """Return the settings for a command as values of its options.

    Args:
        command: its name.
        folder: whose project counts; None for the current one.

    Raises:
        BadOption: as for `settings_in`.
    """
    if command != "haul" and command not in _REACHING:
        return {}
    folder = folder or Path()
    if not (own_file().is_file() or (folder / PROJECT_FILE).is_file()):
        return {}  # as for most people, who should not wait for it
    options = COMMANDS[command].by_key()
    tables = (
        Table("settings", str(each.place), {each.key: each.value})
        for each in settings_in(folder)
        if each.key in options and (each.table == "connecting" or command == "haul")
    )
    return together((given_in(table, options) for table in tables), options)


def _settings_of(path: Path, tables: Sequence[str], besides: Sequence[str]) -> Iterator[Setting]:
    for name, table in _tables_of(path, tables, besides).items():
        for key, value in table.keys.items():
            yield Setting(name, key, value, path, table.lines.get(key, 0))


def _tables_of(path: Path, tables: Sequence[str], besides: Sequence[str]) -> Mapping[str, Table]:
    if not path.exists():
        return {}
    file = TomlFile(path, "check the file")
    for key in file.content:
        if key in TABLES and key not in tables:
            raise BadOption(
                f"{path}, [{key}]", "not allowed in a project file", f"put it in {own_file()}"
            )
        if key not in (*tables, *besides):
            there_are = ", ".join(f"[{name}]" for name in tables)
            raise BadOption(f"{path}, {key}", "unknown key", f"there are {there_are}")
    found = {name: file.table(name) for name in tables}
    for name, table in found.items():
        table.require_known(options_of(name))
        for key in table.keys:
            if tables is _PROJECT_TABLES and key not in _PROJECT_KEYS:
                raise BadOption(
                    table.place(key), "not allowed in a project file", f"put it in {own_file()}"
                )
    return found
