"""`load`: put what is chosen in a cart."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cart import Cart, Find, form_for, load, load_as
from willow_cart.cli.connecting import make_access
from willow_cart.cli.errand_writing import write_errand
from willow_cart.cli.looking import Looker
from willow_cart.cli.script import write_script
from willow_cart.cli.telling import in_words, tell, tell_each
from willow_cart.errors import BadOption
from willow_cart.exits import Exit
from willow_cart.jobs.load import LoadRequest
from willow_cart.units import count_of

if TYPE_CHECKING:
    from willow_cart.cart import Loaded
    from willow_cart.model import Offer
    from willow_cart.sources import Look


def run(request: LoadRequest) -> int:
    """Look, choose, and load."""
    if request.cart is None and request.to_script is None:
        raise BadOption("load", "does not say into what", "give --cart FILE or --to-script FILE.py")
    if request.cart is not None and any(
        Path(source).resolve() == request.cart.resolve() for source in request.sources
    ):
        raise BadOption(
            f"--cart {request.cart}",
            "is among the sources",
            "name the sources that it was loaded from",
        )
    require_form(request.cart)
    if request.write_errand is not None:
        write_errand(request.write_errand, "load", request.typed[1:])
    find, looker = find_for(request, request.cart)
    offers: Iterable[Offer] = find.chosen()
    if request.cart is not None:
        print(put_in_cart(find, request.cart, looker.found, add=request.add))
        offers = Cart.load(request.cart) if request.to_script is not None else ()
    left = (
        0
        if request.to_script is None
        else _write_script(offers, request.to_script, overwrite=request.overwrite)
    )
    incomplete = looker.found.troubles or looker.unanswered or left
    return Exit.INCOMPLETE if incomplete else Exit.GOOD


def require_form(path: Path | None) -> None:
    """Refuse a cart's name that says nothing, before any work is done."""
    if path is not None:
        form_for(path)


def find_for(
    request: LoadRequest, path: Path | None, besides: Iterable[Offer] = ()
) -> tuple[Find, Looker]:
    """What there is for a cart; all of it, and not only what is chosen, if it is there already.

    Args:
        request: the options.
        path: the cart; None for none.
        besides: offers that are known already.

    Raises:
        WillowCartError: none of the sources can be read.
        NothingChosen: nothing is left.
    """
    everything = path is not None and path.exists()
    with make_access([request], request.lanes) as access:
        looker = Looker(request, access, request.lanes, everything=everything, besides=besides)
        find = Find((offer, not dropped_by) for offer, dropped_by in looker.judged())
    looker.choice.require_some()
    return find, looker


def _write_script(offers: Iterable[Offer], path: Path, *, overwrite: bool) -> int:
    """Write a script of offers, and return how many it cannot bring."""
    files, troubles = write_script(offers, path, datetime.now(UTC), overwrite=overwrite)
    tell_each(troubles)
    print(f"{path}: brings {count_of(files, 'file')}; python3 {path} --into DIR")
    return len(troubles)


def put_in_cart(find: Find, path: Path, found: Look, *, add: bool) -> str:
    """Put what was found in a cart, in the form that its name says, and tell what is odd about it.

    Args:
        find: what was found.
        path: the cart.
        found: what is known of the looking.
        add: whether sources may be added to a cart that has others.

    Returns:
        A line that sums it up.
    """
    form = form_for(path)
    if form is None:
        today = datetime.now(UTC).date()
        loaded = load(find, path, found.sources, found.covers, add=add, today=today)
    else:
        loaded = load_as(form, find, path)
        bare = sum(1 for offer in find.chosen() if offer.checksums)
        if bare and not form.keeps_checksums:
            tell(f"{count_of(bare, 'checksum')} left out: a {form.name} has no room for them")
    tell_each([*loaded.unread, *loaded.oddities])
    if loaded.secrets:
        holds = "address holds" if loaded.secrets == 1 else "addresses hold"
        tell(
            f"{loaded.secrets:,} {holds} a secret, which no cart keeps; haul such from the source"
            " itself, or give a sign-in"
        )
    if loaded.gone:
        tell(f"{count_of(loaded.gone, 'file')} not offered any more, marked in the column gone")
    return f"{path}: {_changes(loaded)}"


def _changes(loaded: Loaded) -> str:

    changes = [f"{loaded.new:,} new", f"{loaded.renewed:,} renewed", f"{loaded.gone:,} gone"]
    if loaded.back:
        changes.append(f"{loaded.back:,} back")
    rows = count_of(loaded.rows, "row")
    return f"{rows} ({', '.join(changes)}); taken are {in_words(loaded.taken)}"
