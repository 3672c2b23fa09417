"""The tree that files would get, shown before anything is fetched."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cli.screen import show_line, show_tree
from willow_cart.cli.showing import Folder
from willow_cart.cli.telling import in_words
from willow_cart.cli.view import PlainView
from willow_cart.destination import is_case_sensitive
from willow_cart.filing import make_plan
from willow_cart.records import Held, has_ledger, ledger_path

if TYPE_CHECKING:
    from willow_cart.filing import Plan
    from willow_cart.filing.plan import Rule
    from willow_cart.shelf import Shelf


def preview(offers: Shelf, into: Path, rule: Rule) -> None:
    """Show where offers would go.

    Raises:
        FieldsMissing: the rule has a field that some of them have nothing to say for.
        UnreadableLedger: the ledger there is damaged, or of a later version.
    """
    with ExitStack() as stack:
        held = stack.enter_context(Held(ledger_path(into))) if has_ledger(into) else None
        plan = make_plan(offers, rule, held, case_sensitive=is_case_sensitive(into))
        show_plan(plan, into)
        known = sum(map(len, plan.known.values()))
        earlier = f"; {known:,} of them brought by earlier hauls" if known else ""
        show_line(f"{in_words(offers.sizes)}{earlier}; nothing was fetched")


def show_plan(plan: Plan, into: Path) -> None:
    """Say what should be known of a plan, and draw the tree that it leads to."""
    PlainView().planned(plan)
    root = Folder()
    for filed in plan:
        folder, _, name = filed.path.rpartition("/")
        root.add(replace(filed.offer, folder=folder, name=name))
    show_tree([root.branch(f"{into}/")])
