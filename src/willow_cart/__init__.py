"""Willow Cart: bring many files home, checked, filed and recorded.

This is the public face: what scripts and notebooks may rely on. The names are imported when they
are used first, so that the command line starts quickly::

    import willow_cart as wc

    offers = wc.look(["addresses.txt"]).offers
    chosen = wc.Choosing(extensions=("csv",)).choose(offers).chosen
    with wc.WebAccess() as access:
        with wc.LiveView("data") as view:
            account = wc.bring_home(chosen, "data", access, observer=view)
    print(account.counts)

Underneath, imports run downward only: `cli` over `errands` over `haul` over `sources` over `cart`,
`audit` and `tables` over `archives` and `checks` over `access`, `choosing`, `filing` and `records`
over `model`, `units` and `errors`.
"""

from importlib import import_module
from typing import TYPE_CHECKING

from willow_cart.version import __version__

if TYPE_CHECKING:
    from willow_cart.access import Access, Patience
    from willow_cart.access.sign_ins import Secret, SignIn, SignIns
    from willow_cart.access.web import WebAccess
    from willow_cart.cart import Cart, Way, Weight
    from willow_cart.checks import ChecksumBook, read_checksum_list
    from willow_cart.choosing import Choice, Choosing, parse_when
    from willow_cart.cli.bars import LiveView
    from willow_cart.errors import WillowCartError
    from willow_cart.filing import Layout, Template
    from willow_cart.haul import (
        Account,
        Command,
        Observer,
        SameBytes,
        Unpacking,
        Wishes,
        bring_home,
    )
    from willow_cart.model import Checksum, Offer, State
    from willow_cart.records import Receipt, read_receipt
    from willow_cart.sources import Look, Looking, NotEntered, PageRules, ask_sizes, look

_HOMES = {
    "Access": "access",
    "Account": "haul",
    "Cart": "cart",
    "Checksum": "model",
    "ChecksumBook": "checks",
    "Choice": "choosing",
    "Choosing": "choosing",
    "Command": "haul",
    "Layout": "filing",
    "LiveView": "cli.bars",
    "Look": "sources",
    "Looking": "sources",
    "NotEntered": "sources",
    "Observer": "haul",
    "Offer": "model",
    "PageRules": "sources",
    "Patience": "access",
    "Receipt": "records",
    "SameBytes": "haul",
    "Secret": "access.sign_ins",
    "SignIn": "access.sign_ins",
    "SignIns": "access.sign_ins",
    "State": "model",
    "Template": "filing",
    "Unpacking": "haul",
    "Way": "cart",
    "WebAccess": "access.web",
    "Weight": "cart",
    "WillowCartError": "errors",
    "Wishes": "haul",
    "ask_sizes": "sources",
    "bring_home": "haul",
    "look": "sources",
    "parse_when": "choosing",
    "read_checksum_list": "checks",
    "read_receipt": "records",
}

__all__ = [
    "Access",
    "Account",
    "Cart",
    "Checksum",
    "ChecksumBook",
    "Choice",
    "Choosing",
    "Command",
    "Layout",
    "LiveView",
    "Look",
    "Looking",
    "NotEntered",
    "Observer",
    "Offer",
    "PageRules",
    "Patience",
    "Receipt",
    "SameBytes",
    "Secret",
    "SignIn",
    "SignIns",
    "State",
    "Template",
    "Unpacking",
    "Way",
    "WebAccess",
    "Weight",
    "WillowCartError",
    "Wishes",
    "__version__",
    "ask_sizes",
    "bring_home",
    "look",
    "parse_when",
    "read_checksum_list",
    "read_receipt",
]


def __getattr__(name: str) -> object:
    """Import a name of the public face from where it lives (PEP 562)."""
    home = _HOMES.get(name)
    if home is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"{__name__}.{home}"), name)
