"""CSS selectors (Selectors Level 4, as far as cssselect supports them)."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from cssselect import HTMLTranslator, SelectorError
from lxml import etree

from willow_cart.errors import BadOption
from willow_cart.sources.web_pages.elements import Element


def read_selector(option: str, selector: str) -> Callable[[Element], list[Element]]:
    """Return a function that finds the elements of a selector.

    Args:
        option: where it was given, for messages.
        selector: as typed.

    Raises:
        BadOption: it cannot be read.
    """
    try:
        find = etree.XPath(HTMLTranslator().css_to_xpath(selector))
    except (SelectorError, etree.XPathSyntaxError) as error:
        raise BadOption(
            f"{option} {selector}", f"not a valid CSS selector: {error}", "fix it"
        ) from None
    # A selector's expression finds elements and nothing else.
    return lambda root: cast("list[Element]", find(root))
