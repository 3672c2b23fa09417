"""Find addresses that lead to the same page, and choose one of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Face:
    """The properties by which two addresses are recognised as the same page.

    Attributes:
        final: where redirects led to.
        sha256: of its bytes.
        wanted: the address by which the page wants to be known; the final one if it does not say.
    """

    final: str
    sha256: str
    wanted: str


def one_address_each(faces: Mapping[str, Face]) -> dict[str, str]:
    """Map each address to the one that stands for its page.

    Several are of one page where they redirect to the same; or where they have the same bytes and
    want to be known by the same address (RFC 6596), a slash or an index at its end aside. Pages
    that want to be known by another one and differ from it are pages of their own: of a long list
    in parts each may name the first.
    """
    main: dict[str, str] = {}
    by_final: dict[str, str] = {}
    by_bytes: dict[tuple[str, str], str] = {}
    # The address without a redirect is the one, whatever came first.
    for address in sorted(faces, key=lambda each: (faces[each].final != each, len(each), each)):
        face = faces[address]
        same_bytes = (face.sha256, _bare(face.wanted))
        main[address] = by_final.get(face.final) or by_bytes.get(same_bytes) or address
        by_final.setdefault(face.final, main[address])
        by_bytes.setdefault(same_bytes, main[address])
    return main


def _bare(address: str) -> str:
    """Return an address without a final slash or index name."""
    folder, _, name = address.removesuffix("/").rpartition("/")
    return folder if name in ("index.html", "index.htm") else address.removesuffix("/")
