"""Layouts: which folders the files of a haul are put in."""

from __future__ import annotations

from enum import StrEnum

from willow_cart.addresses import host_of
from willow_cart.filing.names import safe_path
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

    def path_for(self, offer: Offer) -> str:
        """The safe path below the destination that this layout wishes for an offer."""
        name = offer.file_name.replace("/", "_")
        match self:
            case Layout.TREE:
                return safe_path(offer.path)
            case Layout.FLAT:
                return safe_path(name)
            case Layout.HOST:
                return safe_path(f"{host_of(offer.address)}/{offer.path}")
            case Layout.KIND:
                return safe_path(f"{offer.kind}/{name}")
