"""The events of an errand, in addition to those of its jobs."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.errors import Exit
from willow_cart.events import Event

if TYPE_CHECKING:
    from willow_cart.commands.haul import Haul
    from willow_cart.errands.job import Step


class SourceOffers(Event):
    """A source was listed.

    Attributes:
        source: its name or its address.
        files: how many of its files are chosen.
    """

    source: str
    files: int


class HaulEnded(Event):
    """The haul of the sources has ended, complete or not.

    Attributes:
        hauled: the result.
    """

    hauled: Haul


class TooLittleNew(Event):
    """Fewer new files arrived than the errand expects.

    Attributes:
        expected: how many it expects.
        arrived: how many came.
    """

    expected: int
    arrived: int


class OfferedNoMore(Event):
    """Files in the destination are no longer offered by their sources.

    Attributes:
        example: the path of one.
        moved: how many were moved aside; None if they are kept.
        folder: where they are then.
    """

    files: int
    example: str
    moved: int | None
    folder: Path


class UnlistedButThere(Event):
    """Files in the destination are no longer listed, and their addresses still answer."""

    files: int


class StepsLeft(Event):
    """No step was started because the haul is incomplete."""

    first: Step


class StepBegun(Event):
    """A step was started."""

    step: Step


class StepEnded(Event):
    """A step has ended.

    Attributes:
        result: what its job returns; None for a program of the user's own.
    """

    step: Step
    result: object


class StepFailed(Event):
    """A step failed; later steps are not run.

    Attributes:
        exit_code: its exit code.
    """

    step: Step
    exit_code: Exit


class CannotRun(Event):
    """A program could not be run, or failed.

    Attributes:
        key: its key in the errand; empty for a step.
        reason: the problem, with the program named.
    """

    key: str
    reason: str
