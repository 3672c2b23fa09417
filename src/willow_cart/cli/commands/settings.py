"""`settings`: show the settings in effect."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from willow_cart.cli.screen import show_line, show_table, show_text
from willow_cart.commands.settings import (
    PROJECT_FILE,
    TABLES,
    Setting,
    SettingsRequest,
    own_file,
    settings_in,
)
from willow_cart.commands.table import options_of
from willow_cart.errors import Exit
from willow_cart.units import json_text


def run(request: SettingsRequest) -> int:
    """Print the settings."""
    found = {(each.table, each.key): each for each in settings_in(Path())}
    rows = [(each.table, each.key, each.value, _place_of(each)) for each in found.values()]
    if request.all:
        rows += _unset(found)
    rows.sort(key=lambda row: (TABLES.index(row[0]), row[1]))
    if request.json:
        names = ("table", "key", "value", "from")
        show_text(json_text([dict(zip(names, row, strict=True)) for row in rows], indent=2))
        return Exit.GOOD
    if rows:
        cells = [(table, key, _shown(value), place) for table, key, value, place in rows]
        show_table(("table", "key", "value", "from"), cells)
    for path, whose in ((Path(PROJECT_FILE), "project"), (own_file(), "user")):
        show_line(f"{whose} settings: {path}{'' if path.is_file() else ' (no such file)'}")
    return Exit.GOOD


def _place_of(setting: Setting) -> str:
    return f"{setting.place}, line {setting.line}"


def _unset(found: Collection[tuple[str, str]]) -> list[tuple[str, str, object, str]]:

    return [
        (table, key, option.default, "default")
        for table in TABLES
        for key, option in options_of(table).items()
        if (table, key) not in found
    ]


def _shown(value: object) -> str:
    if value is None or value in ([], (), ""):
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    return ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value)
