"""The ledger of a destination, and the receipts read from it."""

from willow_cart.records.entries import TWIN, Arrival, Made, Move, PartRecord, Result, timestamp
from willow_cart.records.ledger import KnownFiles, Ledger
from willow_cart.records.opening import has_ledger, ledger_path
from willow_cart.records.receipt import (
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
from willow_cart.records.runs import LaneProgress, OwnRun, Progress, Run, Runs
from willow_cart.records.timeline import Timeline, TimelineCell, TimelineWait

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
