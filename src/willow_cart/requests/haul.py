"""The request of `haul`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.hauling import (
    FilingOptions,
    HandlingOptions,
    PaceOptions,
    UnpackedArchivesOption,
    UnpackingOptions,
)
from willow_cart.options.option import option
from willow_cart.options.shared import WriteErrandOption
from willow_cart.requests.request import LookingRequest


@dataclass(frozen=True, kw_only=True)
class HaulRequest(
    FilingOptions,
    HandlingOptions,
    WriteErrandOption,
    UnpackingOptions,
    UnpackedArchivesOption,
    LookingRequest,
    PaceOptions,
):
    """A request to haul."""

    command = "haul"

    into: Path = option(Path(), Path, "the folder to file into", metavar="DIR", required=True)
