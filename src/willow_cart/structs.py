"""The two ways to define data: a `Value` never changes, a `Record` does.

Both are structs of `msgspec`, which cost a twentieth of a dataclass to define and a fifth to make.
A class that computes fields from others, or hides some in comparisons, is a dataclass.
"""

from __future__ import annotations

from typing import dataclass_transform

import msgspec
from msgspec import field, to_builtins
from msgspec.structs import asdict, astuple, force_setattr, replace

__all__ = [
    "Record", "Value", "asdict", "astuple", "field", "force_setattr", "replace",
    "to_builtins",
]  # fmt: skip


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
class Value(msgspec.Struct, frozen=True):
    """Immutable data; compared and hashed by its fields."""


@dataclass_transform(field_specifiers=(field,))
class Record(msgspec.Struct):
    """Data that changes; compared by its fields, and not hashable."""
