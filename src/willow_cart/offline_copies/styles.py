"""Find and replace references in style sheets: `url()` and `@import` (CSS Syntax 3, Cascade 5)."""

from __future__ import annotations

import re

from willow_cart.offline_copies.scope import Rewrite, Role

_UNCLOSED = r""""(?:\\.|[^"\\\n])*+|'(?:\\.|[^'\\\n])*+"""
_STRING = r""""(?:\\.|[^"\\\n])*+"|'(?:\\.|[^'\\\n])*+'"""

# What comes first wins: nothing in a comment or another string is a reference, and the address of a
# namespace is a name.
_TOKENS = re.compile(
    rf"""
    /\*.*?(?:\*/|\Z)
    | @namespace\b[^;]*
    | (?P<import>@import\s++)(?P<imported>{_STRING})
    | (?P<open>(?P<of>@import\s++)?(?<![\w-])url\(\s*+)
      (?P<address>{_STRING}|(?:\\[0-9a-f]{{1,6}}\s?|\\.|[^\s"'()\\])*+)(?P<close>\s*+\))
    | {_STRING}|{_UNCLOSED}
    """,
    re.DOTALL | re.VERBOSE | re.IGNORECASE,
)

_ESCAPE = re.compile(r"\\(?:([0-9a-fA-F]{1,6})[ \t\n\r\f]?|(\n)|(.))", re.DOTALL)


def rewrite_style(text: str, new: Rewrite) -> str:
    """Return a style sheet with other references; everything else stays the same.

    Args:
        text: the sheet, or what is in a `style` attribute.
        new: returns the new reference; None keeps it.
    """

    def put(found: re.Match[str]) -> str:
        if (imported := found["imported"]) is not None:
            instead = new(_value_of(imported), Role.STYLE)
            return found[0] if instead is None else f"{found['import']}{_quoted(instead)}"
        if (address := found["address"]) is None:
            return found[0]
        instead = new(_value_of(address), Role.STYLE if found["of"] else Role.DRAWN)
        return found[0] if instead is None else f"{found['open']}{_quoted(instead)}{found['close']}"

    return _TOKENS.sub(put, text)


def _value_of(written: str) -> str:
    """Return the value of a string or of the content of `url()` (CSS Syntax 3, 4.3.7)."""
    inside = written[1:-1] if written[:1] in ("'", '"') else written

    def character(found: re.Match[str]) -> str:
        if found[1]:
            number = int(found[1], 16)
            return (
                chr(number) if 0 < number < 0x110000 and not 0xD800 <= number < 0xE000 else "\ufffd"
            )
        return found[3] or ""

    return _ESCAPE.sub(character, inside)


def _quoted(address: str) -> str:
    """Quote an address as a string; single quotes are safe in a `style` attribute."""
    escaped = address.replace("\\", "\\\\").replace("'", "\\'").replace("\n", "\\a ")
    return f"'{escaped}'"
