"""Sitemaps (sitemaps.org, version 0.9): the pages that a site lists itself."""

from __future__ import annotations

from datetime import datetime

from willow_cart.errors import BadAddress
from willow_cart.model import Offer
from willow_cart.outside_values import read_iso
from willow_cart.safe_xml import local_name
from willow_cart.sources.listing import Kind, Listing
from willow_cart.sources.web_pages.elements import Element
from willow_cart.sources.web_pages.references import Resolver

ROOTS = frozenset({"urlset", "sitemapindex"})
"""What the outermost element of a sitemap is called."""


def read_sitemap(root: Element, address: str, source: str) -> Listing:
    """Read a sitemap, or an index of sitemaps, which become its subfolders."""
    listing = Listing(address, Kind.SITEMAP)
    resolver = Resolver(address)
    for entry in root:
        values = {local_name(child).lower(): (child.text or "").strip() for child in entry}
        try:
            where = resolver.resolve(values.get("loc", ""))
        except BadAddress as error:
            listing.odd.append(f"{error.thing} ({error.reason})")
            continue
        if where is None:
            continue
        if local_name(entry).lower() == "sitemap":
            listing.parts.append(where)
        elif local_name(entry).lower() == "url":
            listing.offers.append(Offer(where, source, modified=read_moment(values.get("lastmod"))))
    return listing


def read_moment(text: str | None) -> datetime | None:
    """Parse a date in the W3C profile of ISO 8601, or None."""
    return read_iso(f"{text}-01" if text and len(text) == 7 else text)
