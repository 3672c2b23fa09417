"""`refile`: moving what was hauled to where another rule wants it."""

from __future__ import annotations

from dataclasses import dataclass

from willow_cart.jobs.hauling_options import FilingOptions
from willow_cart.jobs.option import flag
from willow_cart.jobs.requests import Request
from willow_cart.jobs.shared_options import FolderArgument


@dataclass(frozen=True, kw_only=True)
class RefileRequest(FolderArgument, FilingOptions, Request):
    """What `refile` is asked for."""

    command = "refile"

    preview: bool = flag("show the tree that would result; moves nothing")
