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
    from willow_cart.errors import Incomplete, WillowCartError
    from willow_cart.filing import Layout, Template
    from willow_cart.hauling import (
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
    from willow_cart.scripting import (
        Audit,
        ErrandRun,
        Haul,
        Survey,
        audit,
        errand,
        haul,
        load,
        survey,
    )
    from willow_cart.sources import Look, Looking, NotEntered, PageRules, ask_sizes, look
    from willow_cart.views.bars import LiveView

_HOMES = {
    "Access": "access",
    "Account": "hauling",
    "Audit": "scripting",
    "Cart": "cart",
    "Checksum": "model",
    "ChecksumBook": "checks",
    "Choice": "choosing",
    "Choosing": "choosing",
    "Command": "hauling",
    "ErrandRun": "scripting",
    "Haul": "scripting",
    "Incomplete": "errors",
    "Layout": "filing",
    "LiveView": "views.bars",
    "Look": "sources",
    "Looking": "sources",
    "NotEntered": "sources",
    "Observer": "hauling",
    "Offer": "model",
    "PageRules": "sources",
    "Patience": "access",
    "Receipt": "records",
    "SameBytes": "hauling",
    "Secret": "access.sign_ins",
    "SignIn": "access.sign_ins",
    "SignIns": "access.sign_ins",
    "State": "model",
    "Survey": "scripting",
    "Template": "filing",
    "Unpacking": "hauling",
    "Way": "cart",
    "WebAccess": "access.web",
    "Weight": "cart",
    "WillowCartError": "errors",
    "Wishes": "hauling",
    "ask_sizes": "sources",
    "audit": "scripting",
    "bring_home": "hauling",
    "errand": "scripting",
    "haul": "scripting",
    "load": "scripting",
    "look": "sources",
    "parse_when": "choosing",
    "read_checksum_list": "checks",
    "read_receipt": "records",
    "survey": "scripting",
}

__all__ = [
    "Access",
    "Account",
    "Audit",
    "Cart",
    "Checksum",
    "ChecksumBook",
    "Choice",
    "Choosing",
    "Command",
    "ErrandRun",
    "Haul",
    "Incomplete",
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
    "Survey",
    "Template",
    "Unpacking",
    "Way",
    "WebAccess",
    "Weight",
    "WillowCartError",
    "Wishes",
    "__version__",
    "ask_sizes",
    "audit",
    "bring_home",
    "errand",
    "haul",
    "load",
    "look",
    "parse_when",
    "read_checksum_list",
    "read_receipt",
    "survey",
]


def __getattr__(name: str) -> object:
    """Import a name of the public face from where it lives (PEP 562)."""
    home = _HOMES.get(name)
    if home is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"{__name__}.{home}"), name)
