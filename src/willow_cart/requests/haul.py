"""The request of `haul`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.hauling import (
    FilingOptions,
    HandlingOptions,
    HaulUnpackingOptions,
    PaceOptions,
)
from willow_cart.options.option import option
from willow_cart.options.shared import WRITE_ERRAND
from willow_cart.requests.request import LookingRequest


class HaulRequest(LookingRequest):
    """A request to haul."""

    command = "haul"

    into: Path = option(Path(), Path, "the folder to file into", metavar="DIR", required=True)
    filing: FilingOptions = FilingOptions()
    handling: HandlingOptions = HandlingOptions()
    write_errand: Path | None = WRITE_ERRAND
    unpacking: HaulUnpackingOptions = HaulUnpackingOptions()
    pace: PaceOptions = PaceOptions()
