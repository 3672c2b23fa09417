"""Names that are like one that was typed and is not there."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from itertools import islice

from willow_cart.addresses import name_of
from willow_cart.errors import NothingChosen
from willow_cart.redaction import without_secrets

_MAX_SUGGESTIONS = 5

# Comparing takes a millisecond for a few hundred names; no more are looked through.
_MAX_NAMES = 500


def near_names(wanted: str, names: Iterable[str]) -> list[str]:
    """Return the names that are most like one, or the first ones if none is."""
    there = [name for name in islice(names, _MAX_NAMES) if name.strip("/")]
    return (
        difflib.get_close_matches(wanted, there, _MAX_SUGGESTIONS, 0.3) or there[:_MAX_SUGGESTIONS]
    )


def nothing_matches(address: str, names: Iterable[str], folder: str) -> NothingChosen:
    """Return the error for an address with wildcards that matches nothing.

    Args:
        address: as typed by the user, in normal form.
        names: that are there.
        folder: where they are.
    """
    wanted = name_of(address.rstrip("/")).replace("*", "").replace("?", "")
    near = near_names(wanted, names)
    advice = f"nearby: {', '.join(near)}" if near else f"{without_secrets(folder)} is empty"
    shown = without_secrets(address)
    return NothingChosen(shown, "matches nothing", advice, offered=0, rule=shown)
