"""Willow Cart: download many files, check them, file them and record where they came from.

This is the public face: what scripts and notebooks may rely on. The names are imported when they
are used first, so that the command line starts quickly::

    import willow_cart as wc

    offers = wc.discover(["addresses.txt"]).offers
    chosen = wc.Choosing(ext=("csv",)).choose(offers).chosen
    print(wc.haul(chosen, into="data").counts)

Underneath, imports run downward only, as `docs/house.md` draws them.
"""

from importlib import import_module

from willow_cart.version import __version__

TYPE_CHECKING = False  # `typing` takes longer to import than all else here

if TYPE_CHECKING:
    from willow_cart.cart.cart import Cart
    from willow_cart.cart.picking import Way
    from willow_cart.cart.weighing import Weight
    from willow_cart.checks.checksum_files import ChecksumBook, read_checksum_list
    from willow_cart.choosing import Choice, Choosing
    from willow_cart.errors import Incomplete, WillowCartError
    from willow_cart.filing import Layout, Template
    from willow_cart.hauling.summary import HaulSummary
    from willow_cart.ledger.receipt import Receipt, read_receipt
    from willow_cart.model import Checksum, Offer, State
    from willow_cart.options.readers import parse_when
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
        PeekResult,
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
        peek,
        pick,
        receipt,
        refile,
        survey,
        unpack,
        weigh,
    )
    from willow_cart.sign_in.sign_ins import Secret, SignIn, SignIns
    from willow_cart.sources.asking import ask_sizes
    from willow_cart.sources.discover import discover
    from willow_cart.sources.discovery import Discovery, Looking, NotEntered

_HOMES = {
    "Access": "protocols",
    "Audit": "scripting",
    "Cart": "cart.cart",
    "Checksum": "model",
    "ChecksumBook": "checks.checksum_files",
    "Choice": "choosing",
    "Choosing": "choosing",
    "CombineResult": "scripting",
    "Discovery": "sources.discovery",
    "Looking": "sources.discovery",
    "ErrandRun": "scripting",
    "Haul": "scripting",
    "HaulSummary": "hauling.summary",
    "Incomplete": "errors",
    "KnockResult": "scripting",
    "Layout": "filing",
    "NotEntered": "sources.discovery",
    "Offer": "model",
    "OfflineResult": "scripting",
    "PackResult": "scripting",
    "PeekResult": "scripting",
    "PickResult": "scripting",
    "Receipt": "ledger.receipt",
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
    "Way": "cart.picking",
    "WebAccess": "protocols.web",
    "WeighResult": "scripting",
    "Weight": "cart.weighing",
    "WillowCartError": "errors",
    "ask_sizes": "sources.asking",
    "audit": "scripting",
    "combine": "scripting",
    "errand": "scripting",
    "haul": "scripting",
    "knock": "scripting",
    "load": "scripting",
    "discover": "sources.discover",
    "offline": "scripting",
    "pack": "scripting",
    "parse_when": "options.readers",
    "peek": "scripting",
    "pick": "scripting",
    "read_checksum_list": "checks.checksum_files",
    "read_receipt": "ledger.receipt",
    "receipt": "scripting",
    "refile": "scripting",
    "survey": "scripting",
    "unpack": "scripting",
    "weigh": "scripting",
}

__all__ = [
    "Access",
    "Audit",
    "Cart",
    "Checksum",
    "ChecksumBook",
    "Choice",
    "Choosing",
    "CombineResult",
    "Discovery",
    "ErrandRun",
    "Haul",
    "HaulSummary",
    "Incomplete",
    "KnockResult",
    "Layout",
    "Looking",
    "NotEntered",
    "Offer",
    "OfflineResult",
    "PackResult",
    "PeekResult",
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
    "knock",
    "load",
    "offline",
    "pack",
    "parse_when",
    "peek",
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


def __dir__() -> list[str]:
    """Return the public names, those that are not loaded yet included (PEP 562)."""
    return sorted({*__all__, *(name for name in globals() if name.startswith("__"))})
