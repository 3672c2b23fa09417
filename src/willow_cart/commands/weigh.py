"""`weigh`: total a cart, check the free space, and split it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from willow_cart.cart.picking import learn_in
from willow_cart.cart.rows import read_marked
from willow_cart.cart.splitting import CartPart, DrivePacking, SharePacking, file_of, split
from willow_cart.cart.weighing import Weight
from willow_cart.commands.connecting import make_access
from willow_cart.commands.discovering import SizeAsker
from willow_cart.commands.request import ReachingRequest
from willow_cart.defaults import QUESTIONS
from willow_cart.errors import BadOption
from willow_cart.exits import Exit
from willow_cart.hauling.room import Prospect, prospect
from willow_cart.model import Issue, Offer
from willow_cart.observer import Observer
from willow_cart.options.option import flag, option
from willow_cart.options.readers import drives, few, speed
from willow_cart.options.shared import CART, OVERWRITE
from willow_cart.structs import Value


class WeighRequest(ReachingRequest):
    """A request to total a cart."""

    command = "weigh"

    into: Path = option(
        Path(),
        Path,
        "the planned destination, for free space, files that are already there, and the speed of "
        "the last haul (the current folder)",
        metavar="DIR",
    )
    at: int | None = option(
        None, speed, "estimate the duration at this speed, such as 20MB/s", metavar="SPEED"
    )
    ask_sizes: bool = flag(
        "ask the servers for unknown sizes, with one request per file, and store them in the cart"
    )
    drives: tuple[int, ...] | None = option(
        None,
        drives,
        "write one cart per drive of these sizes; folders stay together where they fit",
        metavar="SIZE,...",
        one_of="parts",
    )
    shares: int | None = option(
        None, few, "write N carts of about equal size", metavar="N", one_of="parts"
    )
    figure: Path | None = option(None, Path, "draw a figure: FILE.png or FILE.svg", metavar="FILE")
    json: bool = flag("print JSON")
    cart: Path = CART
    overwrite: bool = OVERWRITE


class Weighed(Value):
    """The counts and sizes of a cart.

    Attributes:
        weight: by kind, folder, source and month.
        ahead: what is to come, and whether it fits.
        parts: the carts that it was split into.
        stale: a cart of an earlier split with more parts, which is left; None for none.
        troubles: rows that cannot be read.
        notes: what is odd about others.
        unanswered: of how many rows no server would tell the size.
    """

    weight: Weight
    ahead: Prospect
    parts: Sequence[tuple[Path, CartPart]]
    stale: Path | None
    troubles: Sequence[Issue]
    notes: Sequence[str]
    unanswered: int

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.troubles or self.unanswered else Exit.GOOD


def weigh(request: WeighRequest, observer: Observer) -> Weighed:
    """Total a cart, and split it; `draw` draws the figure.

    Raises:
        WillowCartError: the cart cannot be read, or a part cannot be written.
    """
    figure = request.figure
    if figure is not None and figure.suffix.lower() not in (".png", ".svg"):
        raise BadOption(f"--figure {figure}", "is neither .png nor .svg", "use one of them")
    troubles: list[Issue] = []
    notes: list[str] = []
    unanswered = _ask_sizes(request, observer) if request.ask_sizes else 0
    weight = Weight()

    def taken() -> Iterator[Offer]:
        for offer, is_taken in read_marked(request.cart, troubles, notes):
            weight.add(offer, taken=is_taken)
            if is_taken:
                yield offer

    ahead = prospect(taken(), request.into)
    parts, stale = _split(request) if request.drives or request.shares else ([], None)
    return Weighed(weight, ahead, parts, stale, troubles, notes, unanswered)


def draw(request: WeighRequest, weighed: Weighed) -> Path | None:
    """Draw the figure of a cart if requested, and return its file.

    Raises:
        CannotStore: it cannot be written.
    """
    if request.figure is not None:
        from willow_cart.cart.figure import draw as draw_weight  # Matplotlib takes a second

        draw_weight(
            weighed.weight, request.figure, title=request.cart.name, room=weighed.ahead.room,
            overwrite=request.overwrite,
        )  # fmt: skip
    return request.figure


def _ask_sizes(request: WeighRequest, observer: Observer) -> int:
    """Ask for unknown sizes, store them in the cart, and return how many remain unknown."""
    with make_access([request], QUESTIONS, observer) as access:
        asker = SizeAsker(access, QUESTIONS, observer)
        learn_in(request.cart, asker)
    return asker.unanswered


def _split(request: WeighRequest) -> tuple[list[tuple[Path, CartPart]], Path | None]:
    what = "drive" if request.drives else "share"
    capacities = request.drives or (None,) * (request.shares or 0)
    parts = [CartPart(f"{what}-{number}", room) for number, room in enumerate(capacities, 1)]
    packing = DrivePacking(parts) if request.drives else SharePacking(parts)
    files = split(request.cart, packing, overwrite=request.overwrite)
    stale = file_of(request.cart, f"{what}-{len(parts) + 1}")
    return files, stale if stale.exists() else None
