"""The messages for the events of errands; importing this registers them with `lines_of`."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from willow_cart.commands.result import summed_up
from willow_cart.errands.errand_events import (
    CannotRun,
    HaulEnded,
    OfferedNoMore,
    SourceOffers,
    StepBegun,
    StepEnded,
    StepFailed,
    StepsLeft,
    TooLittleNew,
    UnlistedButThere,
)
from willow_cart.units import count_of
from willow_cart.views.words import lines_of

if TYPE_CHECKING:
    from willow_cart.errands.running import Changes


@lines_of.register
def _of_source(event: SourceOffers) -> Iterator[str]:
    yield f"{event.source}: {count_of(event.files, 'file')}"


@lines_of.register
def _of_haul_ended(event: HaulEnded) -> Iterator[str]:
    hauled = event.hauled
    yield summed_up(hauled.account, hauled.request.into, hauled.offered)


@lines_of.register
def _of_too_little_new(event: TooLittleNew) -> Iterator[str]:
    yield (
        f"{count_of(event.expected, 'new file')} expected (expect_new), {event.arrived:,} arrived;"
        " see whether the sources have published anything"
    )


@lines_of.register
def _of_offered_no_more(event: OfferedNoMore) -> Iterator[str]:
    files = f"{count_of(event.files, 'file')} no longer offered, such as {event.example}"
    if event.moved is None:
        yield f'{files}; kept (gone = "aside" moves them aside)'
    else:
        yield f"{files}; {event.moved:,} moved to {event.folder}"


@lines_of.register
def _of_unlisted_but_there(event: UnlistedButThere) -> Iterator[str]:
    yield (
        f"{count_of(event.files, 'file')} no longer listed, but not shown to be gone; kept, and"
        " looked for again in the next run"
    )


@lines_of.register
def _of_steps_left(event: StepsLeft) -> Iterator[str]:
    yield (
        f"{event.first}: not started, because the haul is incomplete; use --from"
        f" {event.first.what} to start it anyway"
    )


@lines_of.register
def _of_step_begun(event: StepBegun) -> Iterator[str]:
    yield f"{event.step}: {event.step.typed}"


@lines_of.register
def _of_step_ended(event: StepEnded) -> Iterator[str]:
    yield f"{event.step}: done"


@lines_of.register
def _of_step_failed(event: StepFailed) -> Iterator[str]:
    yield (
        f"{event.step}: failed with exit code {int(event.exit_code)}; after fixing it, use --from"
        f" {event.step.number} to continue"
    )


@lines_of.register
def _of_cannot_run(event: CannotRun) -> Iterator[str]:
    yield f"{event.key}: {event.reason}" if event.key else event.reason


def changes_line(changes: Changes) -> str:
    """Return the differences from the last run of an errand."""
    gone = changes.gone
    counts = {
        "new": changes.new,
        "of another size": changes.changed,
        "missing from the destination": changes.missing,
        "no longer offered": len(gone),
    }
    told = ", ".join(f"{number:,} {what}" for what, number in counts.items() if number)
    such = f", such as {gone[0]}" if gone else ""
    return f"since the last run: {told or 'nothing changed'}{such}"
