"""Willow Cart: download many files, check them, file them and record where they came from.

This is the public face: what scripts and notebooks may rely on. The names are imported when they
are used first, so that the command line starts quickly::

    import willow_cart as wc

    offers = wc.discover(["addresses.txt"]).offers
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
        haul_offers,
    )
    from willow_cart.ledger import Receipt, read_receipt
    from willow_cart.model import Checksum, Offer, State
    from willow_cart.protocols import Access, RetryPolicy
    from willow_cart.protocols.web import WebAccess
    from willow_cart.scripting import (
        Audit,
        CombineResult,
        ErrandRun,
        Haul,
        KnockResult,
        OfflineResult,
        PackResult,
        PickResult,
        ReceiptResult,
        RefileResult,
        Survey,
        UnpackResult,
        WeighResult,
        audit,
        combine,
        errand,
        haul,
        knock,
        load,
        offline,
        pack,
        pick,
        receipt,
        refile,
        survey,
        unpack,
        weigh,
    )
    from willow_cart.sign_in.sign_ins import Secret, SignIn, SignIns
    from willow_cart.sources import (
        Discovery,
        DiscoveryOptions,
        NotEntered,
        PageRules,
        ask_sizes,
        discover,
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
    "CombineResult": "scripting",
    "Discovery": "sources",
    "DiscoveryOptions": "sources",
    "DuplicatePolicy": "hauling",
    "ErrandRun": "scripting",
    "Haul": "scripting",
    "HaulPolicy": "hauling",
    "HaulSummary": "hauling",
    "Incomplete": "errors",
    "KnockResult": "scripting",
    "Layout": "filing",
    "LiveView": "views.bars",
    "NotEntered": "sources",
    "Observer": "hauling",
    "Offer": "model",
    "OfflineResult": "scripting",
    "PackResult": "scripting",
    "PageRules": "sources",
    "PickResult": "scripting",
    "Receipt": "ledger",
    "ReceiptResult": "scripting",
    "RefileResult": "scripting",
    "RetryPolicy": "protocols",
    "Secret": "sign_in.sign_ins",
    "SignIn": "sign_in.sign_ins",
    "SignIns": "sign_in.sign_ins",
    "State": "model",
    "Survey": "scripting",
    "Template": "filing",
    "UnpackResult": "scripting",
    "Unpacking": "hauling",
    "Way": "cart",
    "WebAccess": "protocols.web",
    "WeighResult": "scripting",
    "Weight": "cart",
    "WillowCartError": "errors",
    "ask_sizes": "sources",
    "audit": "scripting",
    "haul_offers": "hauling",
    "combine": "scripting",
    "errand": "scripting",
    "haul": "scripting",
    "knock": "scripting",
    "load": "scripting",
    "discover": "sources",
    "offline": "scripting",
    "pack": "scripting",
    "parse_when": "choosing",
    "pick": "scripting",
    "read_checksum_list": "checks",
    "read_receipt": "ledger",
    "receipt": "scripting",
    "refile": "scripting",
    "survey": "scripting",
    "unpack": "scripting",
    "weigh": "scripting",
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
    "CombineResult",
    "Discovery",
    "DiscoveryOptions",
    "DuplicatePolicy",
    "ErrandRun",
    "Haul",
    "HaulPolicy",
    "HaulSummary",
    "Incomplete",
    "KnockResult",
    "Layout",
    "LiveView",
    "NotEntered",
    "Observer",
    "Offer",
    "OfflineResult",
    "PackResult",
    "PageRules",
    "PickResult",
    "Receipt",
    "ReceiptResult",
    "RefileResult",
    "RetryPolicy",
    "Secret",
    "SignIn",
    "SignIns",
    "State",
    "Survey",
    "Template",
    "UnpackResult",
    "Unpacking",
    "Way",
    "WebAccess",
    "WeighResult",
    "Weight",
    "WillowCartError",
    "__version__",
    "ask_sizes",
    "audit",
    "combine",
    "discover",
    "errand",
    "haul",
    "haul_offers",
    "knock",
    "load",
    "offline",
    "pack",
    "parse_when",
    "pick",
    "read_checksum_list",
    "read_receipt",
    "receipt",
    "refile",
    "survey",
    "unpack",
    "weigh",
]


def __getattr__(name: str) -> object:
    """Import a public name from the module that defines it (PEP 562)."""
    home = _HOMES.get(name)
    if home is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"{__name__}.{home}"), name)
