"""`refile`: moving what was hauled to where another rule wants it."""

from __future__ import annotations

from dataclasses import dataclass

from willow_cart.options.hauling import FilingOptions
from willow_cart.options.option import flag
from willow_cart.options.shared import FolderArgument
from willow_cart.requests.request import Request


@dataclass(frozen=True, kw_only=True)
class RefileRequest(FolderArgument, FilingOptions, Request):
    """What `refile` is asked for."""

    command = "refile"

    preview: bool = flag("show the resulting tree; moves nothing")
