"""Functions of the C library beyond Python's standard library."""

from __future__ import annotations

import ctypes
from functools import cache
from typing import Any


@cache
def function(name: str) -> Any:
    """Return a function of the C library; None if it does not exist."""
    try:
        return getattr(ctypes.CDLL(None, use_errno=True), name)
    except (OSError, AttributeError, TypeError):
        return None
