"""`refile`: move hauled files to a new layout."""

from __future__ import annotations

from pathlib import Path

from willow_cart.commands.policies import make_rule
from willow_cart.commands.request import Request
from willow_cart.hauling.refiling import Refiled
from willow_cart.hauling.refiling import refile as refile_here
from willow_cart.options.hauling import FilingOptions
from willow_cart.options.option import flag
from willow_cart.options.shared import FOLDER


class RefileRequest(Request):
    """A request to move hauled files."""

    command = "refile"

    preview: bool = flag("show the resulting tree; moves nothing")
    folder: Path = FOLDER
    filing: FilingOptions = FilingOptions()


def refile(request: RefileRequest) -> Refiled:
    """Move the files, or plan it.

    Raises:
        WillowCartError: an option cannot be understood, or the files cannot be moved.
    """
    return refile_here(request.folder, make_rule(request.filing), only_look=request.preview)
