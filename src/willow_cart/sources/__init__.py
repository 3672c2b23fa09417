"""Sources: lists, tables, pages, folders, feeds, sitemaps, and single files."""

from willow_cart.sources.asking import ask_sizes
from willow_cart.sources.discover import discover, discover_each
from willow_cart.sources.discovery import (
    Discovery,
    DiscoveryOptions,
    NotEntered,
    PagePart,
    PageRules,
    Why,
)
from willow_cart.sources.listing import Kind

__all__ = [
    "Discovery",
    "DiscoveryOptions",
    "Kind",
    "NotEntered",
    "PagePart",
    "PageRules",
    "Why",
    "ask_sizes",
    "discover",
    "discover_each",
]
