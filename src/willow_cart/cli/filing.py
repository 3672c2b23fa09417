"""Show the tree of files before anything is fetched."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from willow_cart.cli.messages import tell
from willow_cart.cli.render import Folder
from willow_cart.cli.screen import show_line, show_tree
from willow_cart.filing import Plan
from willow_cart.jobs.haul import Planned
from willow_cart.views.lines import PlainView
from willow_cart.views.words import in_words


def preview(planned: Planned) -> None:
    """Show where offers would be filed."""
    show_plan(planned.plan, planned.into)
    earlier = f"; {planned.known:,} of them already hauled" if planned.known else ""
    show_line(f"{in_words(planned.sizes)}{earlier}; nothing was fetched")


def show_plan(plan: Plan, into: Path) -> None:
    """Print the messages about a plan, and draw its tree."""
    PlainView(tell).planned(plan)
    root = Folder()
    for filed in plan:
        folder, _, name = filed.path.rpartition("/")
        root.add(replace(filed.offer, folder=folder, name=name))
    show_tree([root.branch(f"{into}/")])
