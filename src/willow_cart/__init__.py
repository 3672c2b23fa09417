"""Willow Cart: bring many files home, checked, filed and recorded.

This is the public face: what scripts and notebooks may rely on. The names are imported when they
are used first, so that the command line starts quickly::

    import willow_cart as wc

    offers = wc.look(["addresses.txt"]).offers
    chosen = wc.Choosing(extensions=("csv",)).choose(offers).chosen
    with wc.WebAccess() as access:
        with wc.LiveView("data") as view:
            summary = wc.bring_home(chosen, "data", access, observer=view)
    print(summary.counts)

Underneath, imports run downward only, as `docs/house.md` draws them.
"""

from importlib import import_module
from typing import TYPE_CHECKING

from willow_cart.version import __version__

if TYPE_CHECKING:
    from willow_cart.cart import Cart, Way, Weight
    from willow_cart.checks import ChecksumBook, read_checksum_list
    from willow_cart.choosing import Choice, Choosing, parse_when
    from willow_cart.errors import Incomplete, WillowCartError
    from willow_cart.filing import Layout, Template
    from willow_cart.hauling import (
        ArrivalCommand,
        DuplicatePolicy,
        HaulPolicy,
        HaulSummary,
        Observer,
        Unpacking,
        bring_home,
    )
    from willow_cart.model import Checksum, Offer, State
    from willow_cart.protocols import Access, RetryPolicy
    from willow_cart.protocols.web import WebAccess
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
    from willow_cart.sign_in.sign_ins import Secret, SignIn, SignIns
    from willow_cart.sources import (
        Discovery,
        DiscoveryOptions,
        NotEntered,
        PageRules,
        ask_sizes,
        look,
    )
    from willow_cart.views.bars import LiveView

_HOMES = {
    "Access": "protocols",
    "ArrivalCommand": "hauling",
    "Audit": "scripting",
    "Cart": "cart",
    "Checksum": "model",
    "ChecksumBook": "checks",
    "Choice": "choosing",
    "Choosing": "choosing",
    "DuplicatePolicy": "hauling",
    "ErrandRun": "scripting",
    "Haul": "scripting",
    "HaulPolicy": "hauling",
    "HaulSummary": "hauling",
    "Incomplete": "errors",
    "Layout": "filing",
    "LiveView": "views.bars",
    "Discovery": "sources",
    "DiscoveryOptions": "sources",
    "NotEntered": "sources",
    "Observer": "hauling",
    "Offer": "model",
    "PageRules": "sources",
    "Receipt": "records",
    "RetryPolicy": "protocols",
    "Secret": "sign_in.sign_ins",
    "SignIn": "sign_in.sign_ins",
    "SignIns": "sign_in.sign_ins",
    "State": "model",
    "Survey": "scripting",
    "Template": "filing",
    "Unpacking": "hauling",
    "Way": "cart",
    "WebAccess": "protocols.web",
    "Weight": "cart",
    "WillowCartError": "errors",
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
    "ArrivalCommand",
    "Audit",
    "Cart",
    "Checksum",
    "ChecksumBook",
    "Choice",
    "Choosing",
    "Discovery",
    "DiscoveryOptions",
    "DuplicatePolicy",
    "ErrandRun",
    "Haul",
    "HaulPolicy",
    "HaulSummary",
    "Incomplete",
    "Layout",
    "LiveView",
    "NotEntered",
    "Observer",
    "Offer",
    "PageRules",
    "Receipt",
    "RetryPolicy",
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
