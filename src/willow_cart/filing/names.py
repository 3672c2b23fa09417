"""Names that every file system takes, and that lead nowhere else.

No name from a server is trusted. What comes out of here is safe on Linux, macOS and Windows shares
at once, since data folders travel.
"""

from __future__ import annotations

import re
import unicodedata

from willow_cart.kinds import stem_of
from willow_cart.model import OWN_FOLDER

MOST_BYTES = 255
"""The longest name that the common file systems take, in bytes of UTF-8."""

_PLAIN = re.compile(r"[A-Za-z0-9_](?:[A-Za-z0-9._-]*[A-Za-z0-9_-])?")
# Separators on any system, and what Windows shares refuse in a name.
_FORBIDDEN = re.compile(r'[/\\:*?"<>|]')
# Device names that Windows gives a meaning of their own in every folder, with any extension.
_DEVICES = re.compile(
    r"(?:con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³]|conin\$|conout\$)(?=\.|$)", re.IGNORECASE
)


def safe_name(name: str) -> str:
    """Make a name safe; a name that is safe already comes back as it is.

    The result is never empty, `.` or `..`, holds no separator, control or direction-changing
    character, is no device name, ends in neither dot nor blank, is in Unicode's form NFC, and is
    at most 255 bytes of UTF-8 long, keeping its extension.
    """
    if _PLAIN.fullmatch(name) and len(name) <= MOST_BYTES and not _DEVICES.match(name):
        return name  # as nearly all are; the rest of the way is slow
    # Lone surrogates cannot be written as UTF-8; they come from undecodable bytes.
    name = name.encode("utf-8", "replace").decode("utf-8")
    name = unicodedata.normalize("NFC", name)
    name = "".join(character for character in name if not _invisible(character))
    name = _FORBIDDEN.sub("_", name).strip(" ").rstrip(". ")
    if not name:
        return "_"
    if _DEVICES.match(name) or name.lower() == OWN_FOLDER:
        name = f"_{name.lstrip('.')}"
    return _shorten(name)


def safe_path(path: str) -> str:
    """Make every part of a path safe and leave out what leads nowhere (`.`, `..`, empty parts)."""
    parts = [part for part in path.split("/") if part.strip(" ") not in ("", ".", "..")]
    return "/".join(safe_name(part) for part in parts) or "_"


def fold(path: str) -> str:
    """The form in which two paths are the same on a system that ignores case."""
    return unicodedata.normalize("NFC", path).casefold()


def _invisible(character: str) -> bool:
    """Control, format (direction marks among them), private and unassigned characters.

    Line and paragraph separators would break a listing in two.
    """
    return unicodedata.category(character) in ("Cc", "Cf", "Co", "Cn", "Cs", "Zl", "Zp")


def _shorten(name: str) -> str:
    """Cut a name to 255 bytes between characters, keeping its extension."""
    if len(name.encode()) <= MOST_BYTES:
        return name
    stem = stem_of(name)
    ending = name[len(stem) :]
    room = MOST_BYTES - len(ending.encode())
    stem = stem.encode()[:room].decode("utf-8", "ignore")
    return unicodedata.normalize("NFC", stem.rstrip(". ") + ending)
