"""`refile`: move hauled files to a new layout."""

from __future__ import annotations

from willow_cart.hauling.refiling import Refiled
from willow_cart.hauling.refiling import refile as refile_here
from willow_cart.jobs.hauling_policies import make_rule
from willow_cart.requests.refile import RefileRequest


def refile(request: RefileRequest) -> Refiled:
    """Move the files, or plan it.

    Raises:
        WillowCartError: an option cannot be understood, or the files cannot be moved.
    """
    return refile_here(request.folder, make_rule(request.filing), only_look=request.preview)
