"""Write `docs/errand.schema.json`, for editors, from the option table: `make docs`."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from willow_cart.commands.table import STEPS, TABLES, Option, options_of
from willow_cart.errands.job import GONE, MAIL_WHEN, NUMBERS, TEXTS

SCHEMA = Path(__file__).parent / "errand.schema.json"

_TEXT = {"type": "string"}
_TEXTS = {"anyOf": [_TEXT, {"type": "array", "items": _TEXT, "minItems": 1}]}
_VALUE = {"type": ["string", "number"]}


def render() -> str:
    """The schema."""
    tables = {name: options_of(name) for name in TABLES}
    source = _table(tables["source"], **{"from": _TEXTS}, name=_TEXT)
    steps = [
        _table(tables.get(what, {}), required=what, **{what: _TEXTS if what == "unpack" else _TEXT},
               **({} if what == "run" else {"of": _TEXT}))
        for what in STEPS
    ]  # fmt: skip
    schema = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "An errand, as `willow-cart errand` reads it",
        "type": "object",
        "additionalProperties": False,
        "required": ["into", "source"],
        "properties": {
            **dict.fromkeys(TEXTS, _TEXT),
            **{key: {"type": "integer", "minimum": 0} for key in NUMBERS},
            "gone": {"enum": list(GONE)},
            "mail_when": {"enum": list(MAIL_WHEN)},
            "values": {"type": "object", "additionalProperties": {
                "anyOf": [_VALUE, {"type": "array", "items": _VALUE, "minItems": 1}]}},
            "sign_in": {"type": "object", "additionalProperties": {"type": "object"}},
            **{name: _table(tables[name]) for name in ("connecting", "haul", "filing")},
            "source": {"type": "array", "minItems": 1, "items": source | {"required": ["from"]}},
            "step": {"type": "array", "items": {"oneOf": steps}},
        },
    }  # fmt: skip
    return json.dumps(schema, indent=1, ensure_ascii=False) + "\n"


def _table(options: Mapping[str, Option], required: str = "", **more: object) -> dict[str, object]:
    table = {
        "type": "object",
        "additionalProperties": False,
        "properties": {**more, **{key: _key(option) for key, option in options.items()}},
    }
    return table | ({"required": [required]} if required else {})


def _key(option: Option) -> dict[str, object]:
    if option.is_flag:
        return {"type": "boolean", "description": option.text}
    one: dict[str, object] = {"enum": list(option.choices)} if option.choices else dict(_VALUE)
    if option.many:
        return {"anyOf": [one, {"type": "array", "items": one}], "description": option.text}
    return one | {"description": option.text}


if __name__ == "__main__":
    SCHEMA.write_text(render(), encoding="utf-8")
