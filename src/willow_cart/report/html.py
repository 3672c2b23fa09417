"""HTML elements with safe escaping."""

from __future__ import annotations

from lxml import etree
from lxml.etree import _Element

from willow_cart.units import printable


def element(tag: str, *content: str | _Element, **attributes: str) -> _Element:
    """Return an HTML or SVG element.

    Args:
        tag: its name.
        content: texts and elements; characters that cannot be seen are written out.
        attributes: an underscore stands for a hyphen, and one at the end for nothing: `class_`.
    """
    made = etree.Element(tag)
    for name, value in attributes.items():
        made.set(name.rstrip("_").replace("_", "-"), printable(value))
    last: _Element | None = None
    for each in content:
        if not isinstance(each, str):
            made.append(each)
            last = each
        elif last is None:
            made.text = f"{made.text or ''}{printable(each)}"
        else:
            last.tail = f"{last.tail or ''}{printable(each)}"
    return made


def asset(tag: str, text: str) -> _Element:
    """Return one of our style sheets or scripts."""
    made = etree.Element(tag)
    made.text = text
    return made
