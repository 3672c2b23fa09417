"""`pick`: take rows of a cart out, or put them back."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path

from willow_cart.cart.cart import Cart
from willow_cart.cart.picking import Picked, Way, pick_in, undo
from willow_cart.cart.rows import read_marked
from willow_cart.cart.weighing import weigh
from willow_cart.choosing import Choice, Choosing
from willow_cart.commands.connecting import make_access
from willow_cart.commands.finding import SizeAsker
from willow_cart.commands.request import ReachingRequest
from willow_cart.commands.result import CommandResult
from willow_cart.defaults import QUESTIONS
from willow_cart.errors import BadOption, Exit
from willow_cart.model import Sizes
from willow_cart.observer import Observer
from willow_cart.options.groups import Unknown
from willow_cart.options.option import CART, flag
from willow_cart.structs import replace


class PickRequest(ReachingRequest):
    """A request to pick rows of a cart."""

    command = "pick"
    # If a rule is undecided, a row stays as it is, whichever way it is picked.
    defaults = {"undated": None, "unsized": None}  # noqa: RUF012  # never changed

    out: bool = flag("take the chosen rows out", one_of="way")
    only: bool = flag("take all other rows out", one_of="way")
    back: bool = flag("put the chosen rows back", one_of="way")
    swap: bool = flag(
        "take out the rows that are taken, and put back those that are out", one_of="way"
    )
    undo: bool = flag("undo the last change; repeat it to redo the change", one_of="way")
    gone: bool = flag("choose only rows that were no longer offered at the last load")
    cart: Path = CART
    choosing: Choosing = Choosing()


class PickResult(CommandResult):
    """The result of picking.

    Attributes:
        file: of the cart.
        picked: the changes; after an undo, only what is taken now.
        choice: the counts of choosing; None after an undo.
        unanswered: of how many rows no server reported the size.
    """

    file: Path
    picked: Picked
    choice: Choice | None = None
    unanswered: int = 0

    @property
    def complete(self) -> bool:
        """Whether every row could be read, and every size requested."""
        return not (self.picked.unread or self.unanswered)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.GOOD if self.complete else Exit.INCOMPLETE

    @property
    def changed(self) -> Sizes | None:
        """The sizes of the rows that were taken out or put back; None after an undo."""
        return None if self.choice is None else self.picked.changed

    @property
    def taken(self) -> Sizes:
        """The sizes of the rows that are taken now."""
        return self.picked.taken

    @cached_property
    def cart(self) -> Cart:
        """The cart, read from its file."""
        return Cart.load(self.file)

    @property
    def summary(self) -> str:
        """Return the changes, and the rows that are taken now."""
        changed = "" if self.changed is None else f"changed {self.changed}; "
        return f"{changed}taken now {self.taken}"

    def __repr__(self) -> str:
        return f"<PickResult of {self.file}: {self.summary}>"


def way_of(request: PickRequest) -> Way | None:
    """Return how rows are to be picked; None for the picker and for undo."""
    return next((way for way in Way if getattr(request, way)), None)


def pick(request: PickRequest, way: Way, observer: Observer) -> PickResult:
    """Pick rows by the choosing options.

    Raises:
        WillowCartError: an option cannot be understood, or the cart cannot be read or written.
    """
    if request.choosing.column:
        raise BadOption("--column", "not recorded in carts", "use it when loading")
    # If a rule is undecided, the row stays as it is.
    unsure = Unknown.KEEP if way == "only" else Unknown.DROP
    choosing = request.choosing
    choosing = replace(
        choosing, undated=choosing.undated or unsure, unsized=choosing.unsized or unsure
    )
    choice = choosing.begin()
    with make_access([request], QUESTIONS, observer) as access:
        asker = SizeAsker(access, QUESTIONS, observer) if request.choosing.ask_sizes else None
        picked = pick_in(request.cart, way, choosing, choice, asker, only_gone=request.gone)
    return PickResult(request.cart, picked, choice, asker.unanswered if asker else 0)


def undo_picking(request: PickRequest) -> PickResult:
    """Undo the last change of a cart.

    Raises:
        WillowCartError: there is nothing to undo.
    """
    undo(request.cart)
    taken = weigh(read_marked(request.cart, [], [])).all
    return PickResult(request.cart, Picked(taken=taken))
