"""File names that every file system accepts and that stay inside the folder.

No name from a server is trusted. What comes out of here is safe on Linux, macOS and Windows shares
at once, since data folders travel.
"""

from __future__ import annotations

import re
import unicodedata

from willow_cart.kinds import stem_of
from willow_cart.model import OWN_FOLDER

MAX_NAME_BYTES = 255
"""The longest name that the common file systems take, in bytes of UTF-8."""

# Longer endings are no extensions: the longest that kinds.extension_of knows, twice over.
_MAX_EXTENSION_CHARACTERS = 32

_JOINERS = "\u200c\u200d"
_INVISIBLE = frozenset({"Cc", "Cf", "Co", "Cn", "Cs", "Zl", "Zp"})

_PLAIN = re.compile(r"[A-Za-z0-9_](?:[A-Za-z0-9._-]*[A-Za-z0-9_-])?")
# Most paths; names that end in a dot or are device names are not among them.
_PLAIN_PART = r"(?:[A-Za-z0-9_-]{5,200}|\d{1,20})(?:\.[A-Za-z0-9_-]{1,20}){0,2}"
_PLAIN_PATH = re.compile(f"{_PLAIN_PART}(?:/{_PLAIN_PART}){{0,20}}")
# Separators on any system, and what Windows shares refuse in a name.
_FORBIDDEN = re.compile(r'[/\\:*?"<>|]')
# Device names that Windows gives a meaning of their own in every folder, with any extension.
_DEVICES = re.compile(
    r"(?:con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³]|conin\$|conout\$)(?=\.|$)", re.IGNORECASE
)


def safe_name(name: str) -> str:
    """Make a name safe; safe names are returned unchanged.

    The result is never empty, `.` or `..`, holds no separator, control or direction-changing
    character, not a device name, without a dot or space at its end, in Unicode's form NFC, and
    at most 255 bytes of UTF-8 long, keeping its extension.
    """
    if _PLAIN.fullmatch(name) and len(name) <= MAX_NAME_BYTES and not _DEVICES.match(name):
        return name  # as nearly all are; the rest of the way is slow
    return _shorten(_clean(name))


def marked_name(name: str, mark: str) -> str:
    """Return a safe name with a mark in parentheses before its extension.

    A name that is too long loses the end of its stem, never its mark: names that differ by their
    marks differ after this.

    Args:
        name: safe or not.
        mark: at most 100 bytes of it are used.
    """
    name = _clean(name)
    mark = _clean(mark).encode()[:100].decode("utf-8", "ignore")
    stem, dot, ending = name.partition(".") if not name.startswith(".") else (name, "", "")
    if len(ending.encode()) > _MAX_EXTENSION_CHARACTERS:
        # Dots all over a sentence, and not an extension.
        stem = stem_of(name)
        dot, ending = name[len(stem) : len(stem) + 1], name[len(stem) + 1 :]
    after = f" ({mark}){dot}{ending}"
    room = MAX_NAME_BYTES - len(after.encode())
    stem = stem.encode()[:room].decode("utf-8", "ignore").rstrip(_JOINERS)
    return unicodedata.normalize("NFC", stem + after)


def safe_path(path: str) -> str:
    """Make each part of a path safe; `.`, `..` and empty parts are dropped."""
    parts = [part for part in path.split("/") if part.strip(" ") not in ("", ".", "..")]
    return "/".join(safe_name(part) for part in parts) or "_"


def is_safe_path(path: str) -> bool:
    """Whether a path is safe: `safe_path` returns it unchanged."""
    return bool(_PLAIN_PATH.fullmatch(path)) or safe_path(path) == path


def fold(path: str) -> str:
    """Return the case-folded form, which is equal for paths that clash on some file systems."""
    return unicodedata.normalize("NFC", path).casefold()


def _clean(name: str) -> str:
    """Return a name that is safe except for its length."""
    # Lone surrogates cannot be written as UTF-8; they come from undecodable bytes.
    name = name.encode("utf-8", "replace").decode("utf-8")
    name = _without_invisible(unicodedata.normalize("NFC", name))
    name = _FORBIDDEN.sub("_", name).strip(" ").rstrip(". ")
    if not name:
        return "_"
    if _DEVICES.match(name) or name.lower() == OWN_FOLDER:
        name = f"_{name.lstrip('.')}"
    return unicodedata.normalize("NFC", name)


def _without_invisible(name: str) -> str:
    """Remove control, format, private and unassigned characters, and line separators.

    Format characters can change the direction of what follows. Joiners between two characters
    beyond ASCII are kept: they make one emoji of several, and words of Persian and Indic scripts.
    """
    if name.isascii() and name.isprintable():
        return name
    kept: list[str] = []
    for at, character in enumerate(name):
        joins = (
            character in _JOINERS
            and kept
            and not kept[-1].isascii()
            and kept[-1] not in _JOINERS
            and at + 1 < len(name)
            and not name[at + 1].isascii()
            and unicodedata.category(name[at + 1]) not in _INVISIBLE
        )
        if joins or unicodedata.category(character) not in _INVISIBLE:
            kept.append(character)
    return "".join(kept)


def _shorten(name: str) -> str:
    """Shorten a name to 255 bytes at a character boundary, and keep its extension."""
    if len(name.encode()) <= MAX_NAME_BYTES:
        return name
    stem = stem_of(name)
    ending = name[len(stem) :]
    room = MAX_NAME_BYTES - len(ending.encode())
    stem = stem.encode()[:room].decode("utf-8", "ignore").rstrip(f". {_JOINERS}")
    return unicodedata.normalize("NFC", stem + ending) or "_"
