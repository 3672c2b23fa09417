"""`errand`: run a job from a file."""

from __future__ import annotations

import sys
from typing import cast

from willow_cart.cli.commands import combine, haul, pack, receipt, unpack
from willow_cart.cli.console import Console
from willow_cart.cli.render import preview
from willow_cart.cli.screen import show_line, show_table
from willow_cart.commands.combine import CombineRequest, CombineResult
from willow_cart.commands.errand import ErrandRequest
from willow_cart.commands.pack import PackRequest, PackResult
from willow_cart.commands.receipt import Account, ReceiptRequest
from willow_cart.commands.unpack import UnpackRequest, UnpackResult
from willow_cart.errands.errand_events import HaulEnded, StepBegun, StepEnded
from willow_cart.errands.running import ErrandPlan, run_errand
from willow_cart.errands.surveying import require_only_new, write_from_survey
from willow_cart.errors import Exit
from willow_cart.events import Notice
from willow_cart.views.errand_words import changes_line


class _ErrandConsole(Console):
    """Prints the result of the haul and of each step as soon as it is known."""

    def note(self, event: Notice) -> None:
        """Print a result as its own command does; print a message for every other event."""
        match event:
            case HaulEnded():
                haul.show(event.hauled)
            case StepEnded():
                _show_step(event)
            case StepBegun():
                sys.stdout.flush()  # the user's program writes there, too
                super().note(event)
            case _:
                super().note(event)


def run(request: ErrandRequest) -> int:
    """Run an errand, or show what it would do."""
    console = _ErrandConsole()
    if request.new is not None:
        write_from_survey(request, console)
        return Exit.GOOD
    require_only_new(request)
    done = run_errand(request, console)
    if isinstance(done, ErrandPlan):
        _show_plan(done)
    return done.exit_code


def _show_step(ended: StepEnded) -> None:
    match ended.step.request:
        case UnpackRequest():
            unpack.show(cast("UnpackResult", ended.result))
        case CombineRequest():
            combine.show(cast("CombineResult", ended.result), brief=True)
        case PackRequest():
            pack.show(cast("PackResult", ended.result))
        case ReceiptRequest() as request:
            receipt.show(request, cast("Account", ended.result))


def _show_plan(plan: ErrandPlan) -> None:
    """Print what a run would do."""
    if plan.values:
        show_table(("name", "value"), plan.values)
    preview(plan.planned)
    if plan.changes is not None:
        show_line(changes_line(plan.changes))
    for step in plan.steps:
        show_line(f"then {step}: {step.typed}")
