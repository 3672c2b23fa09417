"""`weigh`: total a cart, check the free space, and split it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from willow_cart.cart.picking import learn_in
from willow_cart.cart.rows import read_marked
from willow_cart.cart.splitting import CartPart, DrivePacking, SharePacking, file_of, split
from willow_cart.cart.weighing import Weight
from willow_cart.commands.connecting import make_access
from willow_cart.commands.finding import SizeAsker
from willow_cart.commands.request import ReachingRequest
from willow_cart.commands.result import CommandResult
from willow_cart.defaults import QUESTIONS
from willow_cart.errors import BadOption, Exit
from willow_cart.hauling.room import Prospect, prospect
from willow_cart.model import Issue, Offer
from willow_cart.observer import Observer
from willow_cart.options.option import CART, OVERWRITE, flag, option
from willow_cart.options.readers import drives, few, speed
from willow_cart.units import format_size


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
    speed: int | None = option(
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
    left_out: bool = flag("count the rows that are out, instead of those that are taken")
    json: bool = flag("print JSON")
    cart: Path = CART
    overwrite: bool = OVERWRITE


class WeighResult(CommandResult):
    """The counts and sizes of a cart.

    Attributes:
        file: of the cart.
        weight: by kind, folder, source and month.
        ahead: the files to come, and whether they fit.
        split: the carts that it was split into, with their files.
        stale: a cart of an earlier split with more parts, which is left; None for none.
        troubles: rows that cannot be read.
        oddities: messages about others.
        unanswered: of how many rows no server reported the size.
    """

    columns = ("by", "name", "files", "bytes", "unknown")

    file: Path
    weight: Weight
    ahead: Prospect
    split: Sequence[tuple[Path, CartPart]]
    stale: Path | None
    troubles: Sequence[Issue]
    oddities: Sequence[str]
    unanswered: int

    @property
    def parts(self) -> tuple[Path, ...]:
        """The files of the carts that it was split into."""
        return tuple(path for path, _ in self.split)

    @property
    def complete(self) -> bool:
        """Whether every row could be read, and every size requested."""
        return not (self.troubles or self.unanswered)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.GOOD if self.complete else Exit.INCOMPLETE

    @property
    def summary(self) -> str:
        """Return the number and size of the files."""
        return f"{self.file}: {self.weight.all}"

    def records(self) -> Iterator[tuple[str, str, int, int, int]]:
        """Return a row per group: criterion, name, files, bytes, number of unknown sizes."""
        weight = self.weight
        groups = {
            "kind": weight.kinds, "folder": weight.folders,
            "source": weight.sources, "month": weight.months,
        }  # fmt: skip
        for by, named in groups.items():
            for name, sizes in sorted(named.items()):
                yield by, name, sizes.files, sizes.bytes, sizes.unknown

    def shown(self) -> tuple[Sequence[str], Iterable[Sequence[object]], int]:
        """Return the columns and rows that people see."""
        rows = [
            (by, name, f"{files:,}", format_size(size) if files > unknown else "")
            for by, name, files, size, unknown in self.records()
        ]
        return ("by", "name", "files", "size"), rows, len(rows)


def weigh(request: WeighRequest, observer: Observer) -> WeighResult:
    """Total a cart, and split it; `draw` draws the figure.

    Raises:
        WillowCartError: the cart cannot be read, or a part cannot be written.
    """
    figure = request.figure
    if figure is not None and figure.suffix.lower() not in (".png", ".svg"):
        raise BadOption(f"--figure {figure}", "is neither .png nor .svg", "use one of them")
    if request.left_out and (request.drives or request.shares):
        raise BadOption(
            "--left-out", "does not go with --drives and --shares", "swap the rows first"
        )
    troubles: list[Issue] = []
    notes: list[str] = []
    unanswered = _ask_sizes(request, observer) if request.ask_sizes else 0
    weight = Weight()

    def taken() -> Iterator[Offer]:
        for offer, is_taken in read_marked(request.cart, troubles, notes):
            counts = is_taken is not request.left_out
            weight.add(offer, taken=counts)
            if counts:
                yield offer

    ahead = prospect(taken(), request.into)
    parts, stale = _split(request) if request.drives or request.shares else ([], None)
    return WeighResult(request.cart, weight, ahead, parts, stale, troubles, notes, unanswered)


def draw(request: WeighRequest, weighed: WeighResult) -> Path | None:
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
