"""`haul`: bringing what is chosen home."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.jobs.hauling_options import (
    FilingOptions,
    HandlingOptions,
    PaceOptions,
    UnpackingOptions,
    UnpackOption,
)
from willow_cart.jobs.option import option
from willow_cart.jobs.requests import LookingRequest
from willow_cart.jobs.shared_options import WriteErrandOption


@dataclass(frozen=True, kw_only=True)
class HaulRequest(
    FilingOptions,
    HandlingOptions,
    WriteErrandOption,
    UnpackingOptions,
    UnpackOption,
    LookingRequest,
    PaceOptions,
):
    """What `haul` is asked for."""

    command = "haul"

    into: Path = option(Path(), Path, "the folder to file into", metavar="DIR", required=True)
