"""The ledger of a destination, and the receipts read from it."""

from willow_cart.ledger.entries import TWIN, Arrival, Made, Move, PartRecord, Result, timestamp
from willow_cart.ledger.ledger import KnownFiles, Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.ledger.receipt import (
    Chapter,
    OpenReceipt,
    Receipt,
    ReceiptRow,
    RunSummary,
    open_receipt,
    read_receipt,
    read_runs,
    read_story,
)
from willow_cart.ledger.runs import LaneProgress, OwnRun, Progress, Run, Runs
from willow_cart.ledger.timeline import Timeline, TimelineCell, TimelineWait

__all__ = [
    "TWIN",
    "Arrival",
    "Chapter",
    "KnownFiles",
    "LaneProgress",
    "Ledger",
    "Made",
    "Move",
    "OpenReceipt",
    "OwnRun",
    "PartRecord",
    "Progress",
    "Receipt",
    "ReceiptRow",
    "Result",
    "Run",
    "RunSummary",
    "Runs",
    "Timeline",
    "TimelineCell",
    "TimelineWait",
    "has_ledger",
    "ledger_path",
    "open_receipt",
    "read_receipt",
    "read_runs",
    "read_story",
    "timestamp",
]
