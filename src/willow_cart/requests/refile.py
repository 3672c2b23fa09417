"""The request of `refile`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.hauling import FilingOptions
from willow_cart.options.option import flag
from willow_cart.options.shared import FOLDER
from willow_cart.requests.request import Request


class RefileRequest(Request):
    """A request to move hauled files."""

    command = "refile"

    preview: bool = flag("show the resulting tree; moves nothing")
    folder: Path = FOLDER
    filing: FilingOptions = FilingOptions()
