"""Willow Cart: download many files, check them, file them and record where they came from.

This is the public interface for scripts and notebooks. The names are imported when they
are used first, so that the command line starts quickly::

    import willow_cart as wc

    offers = wc.discover(["addresses.txt"]).offers
    chosen = wc.Choosing(ext=("csv",)).choose(offers).chosen
    print(wc.haul(chosen, into="data").account.counts)

Underneath, imports run downward only, as `docs/house.md` draws them.
"""

from importlib import import_module

from willow_cart.version import __version__

TYPE_CHECKING = False  # `typing` takes longer to import than all else here

if TYPE_CHECKING:
    from willow_cart.cart.cart import Cart
    from willow_cart.cart.picking import Way
    from willow_cart.cart.weighing import Weight
    from willow_cart.choosing import Choice, Choosing
    from willow_cart.commands.audit import Audit
    from willow_cart.commands.combine import CombineResult
    from willow_cart.commands.haul import Haul
    from willow_cart.commands.knock import KnockResult
    from willow_cart.commands.offline import OfflineResult
    from willow_cart.commands.pack import PackResult
    from willow_cart.commands.peek import PeekResult
    from willow_cart.commands.pick import PickResult
    from willow_cart.commands.receipt import ReceiptResult
    from willow_cart.commands.refile import RefileResult
    from willow_cart.commands.survey import Survey
    from willow_cart.commands.unpack import UnpackResult
    from willow_cart.commands.weigh import WeighResult
    from willow_cart.errors import Incomplete, WillowCartError
    from willow_cart.filing import Layout, Template
    from willow_cart.formats.checksums import ChecksumBook, read_checksum_list
    from willow_cart.hauling.summary import HaulSummary
    from willow_cart.ledger.receipt import Receipt, read_receipt
    from willow_cart.model import Checksum, Offer, State
    from willow_cart.options.readers import parse_when
    from willow_cart.protocols import Access, RetryPolicy
    from willow_cart.protocols.web import WebAccess
    from willow_cart.scripting.functions import (
        ErrandRun,
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
    from willow_cart.sign_in.secrets import Secret
    from willow_cart.sign_in.sign_ins import SignIn, SignIns
    from willow_cart.sources.asking import ask_sizes
    from willow_cart.sources.discover import discover
    from willow_cart.sources.listing import Discovery, Looking, NotEntered

_HOMES = {
    "Access": "protocols",
    "Audit": "commands.audit",
    "Cart": "cart.cart",
    "Checksum": "model",
    "ChecksumBook": "formats.checksums",
    "Choice": "choosing",
    "Choosing": "choosing",
    "CombineResult": "commands.combine",
    "Discovery": "sources.listing",
    "Looking": "sources.listing",
    "ErrandRun": "scripting.functions",
    "Haul": "commands.haul",
    "HaulSummary": "hauling.summary",
    "Incomplete": "errors",
    "KnockResult": "commands.knock",
    "Layout": "filing",
    "NotEntered": "sources.listing",
    "Offer": "model",
    "OfflineResult": "commands.offline",
    "PackResult": "commands.pack",
    "PeekResult": "commands.peek",
    "PickResult": "commands.pick",
    "Receipt": "ledger.receipt",
    "ReceiptResult": "commands.receipt",
    "RefileResult": "commands.refile",
    "RetryPolicy": "protocols",
    "Secret": "sign_in.secrets",
    "SignIn": "sign_in.sign_ins",
    "SignIns": "sign_in.sign_ins",
    "State": "model",
    "Survey": "commands.survey",
    "Template": "filing",
    "UnpackResult": "commands.unpack",
    "Way": "cart.picking",
    "WebAccess": "protocols.web",
    "WeighResult": "commands.weigh",
    "Weight": "cart.weighing",
    "WillowCartError": "errors",
    "ask_sizes": "sources.asking",
    "audit": "scripting.functions",
    "combine": "scripting.functions",
    "errand": "scripting.functions",
    "haul": "scripting.functions",
    "knock": "scripting.functions",
    "load": "scripting.functions",
    "discover": "sources.discover",
    "offline": "scripting.functions",
    "pack": "scripting.functions",
    "parse_when": "options.readers",
    "peek": "scripting.functions",
    "pick": "scripting.functions",
    "read_checksum_list": "formats.checksums",
    "read_receipt": "ledger.receipt",
    "receipt": "scripting.functions",
    "refile": "scripting.functions",
    "survey": "scripting.functions",
    "unpack": "scripting.functions",
    "weigh": "scripting.functions",
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
