"""Layouts: which folders the files of a haul are put in."""

from __future__ import annotations

from enum import StrEnum

from willow_cart.addresses import host_of
from willow_cart.model import Offer


class Layout(StrEnum):
    """A rule that gives every offer its folder."""

    TREE = "tree"
    """The folders below the source, as they are there."""
    FLAT = "flat"
    """All in one folder."""
    HOST = "host"
    """A folder for each host, and in it the folders as they are there."""
    KIND = "kind"
    """A folder for each family of files: table, archive, image, ..."""

    def wish_for(self, offer: Offer) -> str:
        """The path below the destination that this layout wishes for an offer, safe or not."""
        name = offer.file_name.replace("/", "_")
        match self:
            case Layout.TREE:
                return offer.path
            case Layout.FLAT:
                return name
            case Layout.HOST:
                return f"{host_of(offer.address)}/{offer.path}"
            case Layout.KIND:
                return f"{offer.kind}/{name}"
