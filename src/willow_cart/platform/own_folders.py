"""Where a user's settings and state live, by the customs of each system."""

from __future__ import annotations

import errno
from pathlib import Path

_NAME = "willow-cart"


def settings_folder() -> Path:
    """Return the folder of the user's settings."""
    import platformdirs

    return platformdirs.user_config_path(_NAME, appauthor=False)


def state_folder() -> Path:
    """Return the folder where state is kept between the user's commands."""
    import platformdirs

    return platformdirs.user_state_path(_NAME, appauthor=False)


class LinkFound(OSError):
    """A link in place of a folder or file; `filename` is its path."""

    def __init__(self, path: str) -> None:
        super().__init__(errno.ELOOP, "is a link", path)


def leads_astray(part: str) -> bool:
    """Whether a part leads elsewhere than to a name in its folder."""
    return part in ("", ".", "..") or "\0" in part
