"""The request of `settings`."""

from __future__ import annotations

from willow_cart.options.option import flag
from willow_cart.requests.request import Request


class SettingsRequest(Request):
    """A request for the settings."""

    command = "settings"

    all: bool = flag("also show the defaults of settings that are not set")
    json: bool = flag("print JSON")
