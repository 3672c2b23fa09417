"""Show the tree of files before anything is fetched."""

from __future__ import annotations

from pathlib import Path

from willow_cart.cli.messages import tell_each
from willow_cart.cli.render import Folder
from willow_cart.cli.screen import show_line, show_tree
from willow_cart.commands.haul import HaulPlan
from willow_cart.events import Planned
from willow_cart.filing import Plan
from willow_cart.structs import replace
from willow_cart.views.words import lines_of


def preview(planned: HaulPlan) -> None:
    """Show where offers would be filed."""
    show_plan(planned.plan, planned.into)
    earlier = f"; {planned.known:,} of them already hauled" if planned.known else ""
    show_line(f"{planned.sizes}{earlier}; nothing was fetched")


def show_plan(plan: Plan, into: Path) -> None:
    """Print the messages about a plan, and draw its tree."""
    tell_each(lines_of(Planned(plan)))
    root = Folder()
    for filed in plan:
        folder, _, name = filed.path.rpartition("/")
        root.add(replace(filed.offer, folder=folder, name=name))
    show_tree([root.branch(f"{into}/")])
