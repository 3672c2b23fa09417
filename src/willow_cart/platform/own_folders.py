"""Where a user's settings and state live, by the customs of each system."""

from __future__ import annotations

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
