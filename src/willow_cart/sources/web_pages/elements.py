"""Text of elements in pages and XML."""

from __future__ import annotations

from willow_cart.safe_xml import Element

__all__ = ["Element", "words_of"]

_MAX_TEXT_CHARACTERS = 300


def words_of(element: Element) -> str:
    """Return the text in an element with normalised spaces.

    The text is cut where no link's text would still be.
    """
    pieces: list[str] = []
    length = 0
    for piece in element.itertext():
        pieces.append(str(piece))
        length += len(piece)
        if length > _MAX_TEXT_CHARACTERS:
            break
    return " ".join("".join(pieces).split())[:_MAX_TEXT_CHARACTERS]
