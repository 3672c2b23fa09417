"""The commands as Python functions for scripts and notebooks."""

from willow_cart.scripting.file_functions import (
    audit,
    combine,
    pack,
    pick,
    receipt,
    refile,
    unpack,
    weigh,
)
from willow_cart.scripting.file_results import (
    Audit,
    CombineResult,
    PackResult,
    PickResult,
    ReceiptResult,
    RefileResult,
    UnpackResult,
    WeighResult,
)
from willow_cart.scripting.place_functions import errand, haul, knock, load, offline, peek, survey
from willow_cart.scripting.place_results import (
    ErrandRun,
    Haul,
    KnockResult,
    OfflineResult,
    PeekResult,
    Survey,
)

__all__ = [
    "Audit",
    "CombineResult",
    "ErrandRun",
    "Haul",
    "KnockResult",
    "OfflineResult",
    "PackResult",
    "PeekResult",
    "PickResult",
    "ReceiptResult",
    "RefileResult",
    "Survey",
    "UnpackResult",
    "WeighResult",
    "audit",
    "combine",
    "errand",
    "haul",
    "knock",
    "load",
    "offline",
    "pack",
    "peek",
    "pick",
    "receipt",
    "refile",
    "survey",
    "unpack",
    "weigh",
]
