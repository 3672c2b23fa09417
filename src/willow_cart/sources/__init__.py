"""What places offer: lists, tables, pages, folders, feeds, sitemaps, and files by themselves."""

from willow_cart.sources.asking import ask_sizes
from willow_cart.sources.listing import Kind
from willow_cart.sources.look import look, look_through
from willow_cart.sources.looking import Look, Looking, NotEntered, PageRules, Part, Why

__all__ = [
    "Kind",
    "Look",
    "Looking",
    "NotEntered",
    "PageRules",
    "Part",
    "Why",
    "ask_sizes",
    "look",
    "look_through",
]
