"""The purposes of references on pages."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum

from willow_cart.sources.discovery import PagePart


class Role(StrEnum):
    """The purpose of a reference; all but links are needed to display the page."""

    LINK = "a link"
    """What a user follows."""
    ADDRESS = "an address"
    """Where something is sent to, or by what a page wants to be known; never taken."""
    FRAME = "a frame"
    """A page in the page."""
    IMAGE = "a picture"
    MEDIA = "sound or film"
    STYLE = "a style sheet"
    DRAWN = "drawn by a style sheet"
    """Pictures and fonts that style sheets name."""
    SCRIPT = "a script"
    HINT = "a hint"
    """What a browser may prefetch; useless without a network."""

    @property
    def part(self) -> PagePart:
        """Return the part of a page that it belongs to, for --parts."""
        return _PARTS[self]

    @property
    def is_need(self) -> bool:
        """Whether the page needs it."""
        return self not in (Role.LINK, Role.ADDRESS, Role.HINT)


_PARTS = {
    Role.LINK: PagePart.LINKS,
    Role.ADDRESS: PagePart.LINKS,
    Role.HINT: PagePart.LINKS,
    Role.FRAME: PagePart.LINKS,
    Role.IMAGE: PagePart.IMAGES,
    Role.MEDIA: PagePart.MEDIA,
    Role.STYLE: PagePart.STYLES,
    Role.DRAWN: PagePart.STYLES,
    Role.SCRIPT: PagePart.SCRIPTS,
}

Rewrite = Callable[[str, Role], str | None]
"""What a reference, as it is meant and not as it is escaped, becomes; None leaves it alone."""
