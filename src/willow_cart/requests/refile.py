"""The request of `refile`."""

from __future__ import annotations

from dataclasses import dataclass

from willow_cart.options.hauling import FilingOptions
from willow_cart.options.option import flag
from willow_cart.options.shared import FolderArgument
from willow_cart.requests.request import Request


@dataclass(frozen=True, kw_only=True)
class RefileRequest(FolderArgument, FilingOptions, Request):
    """A request to move hauled files."""

    command = "refile"

    preview: bool = flag("show the resulting tree; moves nothing")
