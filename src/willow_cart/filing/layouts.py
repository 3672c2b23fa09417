"""Layouts: short names for common templates."""

from __future__ import annotations

from enum import StrEnum

from willow_cart.filing.templates import Template
from willow_cart.model import Offer


class Layout(StrEnum):
    """A rule that gives each offer its folder."""

    TREE = "tree"
    """The folders below the source, as they are there."""
    FLAT = "flat"
    """All in one folder."""
    HOST = "host"
    """A folder for each host, and in it the folders as they are there."""
    KIND = "kind"
    """A folder for each family of files: table, archive, image, ..."""
    MONTH = "month"
    """A folder for each month in which files were changed last."""
    HEADING = "heading"
    """A folder for each heading of the page."""

    @property
    def template(self) -> Template:
        """The equivalent template."""
        return _TEMPLATES[self]

    def wish_for(self, offer: Offer) -> str:
        """Return the desired path of an offer below the destination.

        It may be unsafe.
        """
        # By far the commonest layout; fast, because millions of offers are processed.
        return offer.path if self is Layout.TREE else _TEMPLATES[self].wish_for(offer)


_TEMPLATES = {
    Layout.TREE: Template("{folder}/{name}"),
    Layout.FLAT: Template("{name}"),
    Layout.HOST: Template("{host|or this machine}/{folder}/{name}"),
    Layout.KIND: Template("{kind}/{name}"),
    Layout.MONTH: Template("{modified|or undated:%Y-%m}/{name}"),
    Layout.HEADING: Template("{heading|or no heading}/{name}"),
}
