"""The request of `survey`."""

from __future__ import annotations

from willow_cart.options.option import flag, option
from willow_cart.options.reaching import PatienceOptions
from willow_cart.options.readers import positive
from willow_cart.options.shared import CSV, JSON, LANES
from willow_cart.requests.request import LookingRequest


class SurveyRequest(LookingRequest):
    """A request for a survey."""

    command = "survey"

    why: bool = flag("also show what was excluded, and by which rule")
    tree: bool = flag("show a tree of folders", one_of="form")
    folders: bool = flag("show folders with their counts and sizes, instead of files")
    levels: int | None = option(
        None, positive, "with --folders: show this many levels (all)", metavar="N"
    )
    json: bool = JSON
    csv: bool = CSV
    lanes: int = LANES
    pace: PatienceOptions = PatienceOptions()
