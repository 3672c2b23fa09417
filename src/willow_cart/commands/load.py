"""`load`: write the chosen offers into a cart or a script."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path

from willow_cart.cart.cart import Cart
from willow_cart.cart.forms import form_for
from willow_cart.cart.loading import Find, load_as
from willow_cart.cart.loading import load as load_cart
from willow_cart.cart.sheet import Style
from willow_cart.commands.connecting import make_access
from willow_cart.commands.errand import write_errand
from willow_cart.commands.finding import OfferFinder
from willow_cart.commands.request import LookingRequest
from willow_cart.commands.result import CommandResult
from willow_cart.errors import BadOption, Exit
from willow_cart.events import CartFilled, ErrandWritten
from willow_cart.model import Issue, Offer
from willow_cart.observer import Observer
from willow_cart.options.groups import PaceOptions, PatienceOptions
from willow_cart.options.option import LANES, OVERWRITE, WRITE_ERRAND, flag, option
from willow_cart.sources.listing import Discovery
from willow_cart.standalone import write_script
from willow_cart.structs import Value, asdict


class LoadRequest(LookingRequest):
    """A request to load a cart."""

    command = "load"

    cart: Path | None = option(None, Path, "the cart to create or update", metavar="FILE")
    delimiter: str = option(
        "",
        str,
        "how to write the cart: semicolon opens in spreadsheets of many European countries "
        "(comma, or tab for a name that ends in .tsv)",
        choices=("comma", "semicolon", "tab"),
    )
    to_script: Path | None = option(
        None,
        Path,
        "write a Python script that hauls the cart on a machine that has only Python, with "
        "checks and resume",
        metavar="FILE.py",
    )
    add: bool = flag("add sources to a cart that was loaded from others")
    overwrite: bool = OVERWRITE
    write_errand: Path | None = WRITE_ERRAND
    lanes: int = LANES
    pace: PatienceOptions = PatienceOptions()


class ScriptWritten(Value):
    """A script that hauls files on its own.

    Attributes:
        path: of the script.
        files: how many it fetches.
        left_out: files that it cannot fetch.
    """

    path: Path
    files: int
    left_out: tuple[Issue, ...]


class LoadedSources(CommandResult):
    """The result of loading.

    Attributes:
        found: the findings and the problems.
        unanswered: of how many offers no server reported the size.
        find: all that was found; what is chosen of it is marked.
        cart: the cart, or None.
        script: the script, or None.
    """

    found: Discovery
    unanswered: int
    find: Find
    cart: CartFilled | None
    script: ScriptWritten | None

    @property
    def summary(self) -> str:
        """Return the changes of the cart; empty without one."""
        return "" if self.cart is None else self.cart.summary

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        left_out = self.script is not None and self.script.left_out
        incomplete = self.found.troubles or self.unanswered or left_out
        return Exit.INCOMPLETE if incomplete else Exit.GOOD


# A spreadsheet takes a table with semicolons for UTF-8 only if it has the mark of it.
_STYLES = {
    "comma": Style(","),
    "semicolon": Style(";", "utf-8-sig"),
    "tab": Style("\t"),
}


def load(
    request: LoadRequest,
    observer: Observer,
    besides: Iterable[Offer] = (),
) -> LoadedSources:
    """List the sources, choose, and write the cart or script.

    Args:
        request: the request; without a cart and a script nothing is written.
        besides: offers that are known already, chosen from as well.

    Raises:
        NothingChosen: nothing is left.
        WillowCartError: none of the sources can be read, or the cart cannot be written.
    """
    cart = request.cart
    if cart is not None:
        if any(Path(source).resolve() == cart.resolve() for source in request.sources):
            raise BadOption(
                f"--cart {cart}", "is among the sources", "name the sources that it was loaded from"
            )
        form_for(cart)  # reports a bad name before any work is done
    if request.write_errand is not None:
        write_errand(request.write_errand, request)
        observer.note(ErrandWritten(request.write_errand))
    # All that there is, and not only what is chosen, for an existing cart.
    everything = cart is not None and cart.exists()
    pace = PaceOptions(**asdict(request.pace))
    with make_access([request], request.lanes, observer, pace) as access:
        finder = OfferFinder(
            request, access, request.lanes, observer, everything=everything, besides=besides
        )
        find = Find((offer, not dropped_by) for offer, dropped_by in finder.judged())
    finder.require_some()
    filled = None
    offers: Iterable[Offer] = find.chosen()
    if cart is not None:
        filled = fill_cart(
            find,
            cart,
            finder.found,
            observer,
            add=request.add,
            style=_STYLES.get(request.delimiter),
        )
        offers = Cart.load(cart) if request.to_script is not None else ()
    script = None
    if request.to_script is not None:
        files, left_out = write_script(
            offers, request.to_script, datetime.now(UTC), overwrite=request.overwrite
        )
        script = ScriptWritten(request.to_script, files, tuple(left_out))
    return LoadedSources(finder.found, finder.unanswered, find, filled, script)


def keep_cart(
    offers: Iterable[Offer], path: Path, found: Discovery, observer: Observer
) -> CartFilled:
    """Write all of these offers into a new cart; see `fill_cart`."""
    return fill_cart(Find((offer, True) for offer in offers), path, found, observer, add=False)


def fill_cart(
    find: Find,
    path: Path,
    found: Discovery,
    observer: Observer,
    *,
    add: bool,
    style: Style | None = None,
) -> CartFilled:
    """Write offers into a cart, in the format that its name selects, and report problems.

    Args:
        find: the offers found.
        found: facts about the listing.
        add: whether sources may be added to a cart that has others.
        style: how a table is to be written; None as before, or by its name.
    """
    form = form_for(path)
    bare = 0
    if form is None:
        today = datetime.now(UTC).date()
        loaded = load_cart(
            find, path, found.sources, found.covers, add=add, style=style, today=today
        )
    else:
        loaded = load_as(form, find, path)
        if not form.keeps_checksums:
            bare = sum(1 for offer in find.chosen() if offer.checksums)
    filled = CartFilled(path, loaded, form, bare)
    observer.note(filled)
    return filled
