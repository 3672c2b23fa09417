"""The request of `survey`."""

from __future__ import annotations

from dataclasses import dataclass

from willow_cart.options.option import flag, option
from willow_cart.options.reaching import PatienceOptions
from willow_cart.options.readers import positive
from willow_cart.options.shared import FormOptions, LanesOption
from willow_cart.requests.request import LookingRequest


@dataclass(frozen=True, kw_only=True)
class SurveyRequest(FormOptions, LanesOption, LookingRequest, PatienceOptions):
    """A request for a survey."""

    command = "survey"

    why: bool = flag("also show what was excluded, and by which rule")
    tree: bool = flag("show a tree of folders", one_of="form")
    folders: bool = flag("show folders with their counts and sizes, instead of files")
    levels: int | None = option(
        None, positive, "with --folders: show this many levels (all)", metavar="N"
    )
