"""Write a cart as a standalone Python script."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from importlib.resources import files
from pathlib import Path
from pprint import pformat

from willow_cart.addresses import is_inside, scheme_of
from willow_cart.filing import Layout, make_plan
from willow_cart.model import Issue, Offer
from willow_cart.offer_store import OfferStore
from willow_cart.redaction import holds_secret, without_secrets
from willow_cart.replacing import marked_with, replacing

_IS_SCRIPT = marked_with(b"# Made by willow-cart, ")

_EMPTY = "FILES: Sequence[dict[str, Any]] = ()\n"

_SCHEMES = ("http", "https", "ftp", "ftps")
"""The schemes in which the standard library can resume."""


def write_script(
    offers: Iterable[Offer], path: Path, made: datetime, *, overwrite: bool = False
) -> tuple[int, list[Issue]]:
    """Write a script that hauls offers on its own.

    Paths are those that a haul gives them in the layout of a tree. The file has no sign-ins, and
    addresses with a secret are left out as from every cart.

    Args:
        offers: what is to come.
        made: when, to be told in it.
        overwrite: whether a file there is replaced that is not such a script.

    Returns:
        The number of files it fetches, and those that it cannot fetch.

    Raises:
        CannotStore: it cannot be written.
    """
    troubles = []
    rows = []
    for filed in make_plan(OfferStore(offers), Layout.TREE):
        offer = filed.offer
        urls = [each for each in (offer.address, *offer.mirrors) if _is_brought(each)]
        if not urls:
            why = "left out: it needs Willow Cart, or its address contains a secret"
            troubles.append(Issue(without_secrets(offer.address), why))
            continue
        checksums = [*map(str, offer.checksums)]
        rows.append({"path": filed.path, "urls": urls, "size": offer.size, "checksums": checksums})
    program = files("willow_cart.standalone").joinpath("program.py").read_text("utf-8")
    head, tail = program.split(_EMPTY)
    listed = pformat(rows, width=96, sort_dicts=False)
    with replacing(path, is_ours=_IS_SCRIPT, overwrite=overwrite) as text:
        text.write(f"#!/usr/bin/env python3\n# Made by willow-cart, {made:%Y-%m-%d %H:%M} UTC.\n")
        text.write(f"{head}FILES: Sequence[dict[str, Any]] = {listed}\n{tail}")
    return len(rows), troubles


def _is_brought(address: str) -> bool:
    known = scheme_of(address) in _SCHEMES and not is_inside(address)
    return known and not holds_secret(address)
