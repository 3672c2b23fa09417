"""What was: the ledger of a destination, and the receipts read from it."""

from willow_cart.records.ledger import Arrival, Held, Ledger, PartRecord, Result, timestamp
from willow_cart.records.receipt import (
    Chapter,
    Receipt,
    Row,
    RunSummary,
    ledger_path,
    read_receipt,
    read_runs,
    read_story,
)
from willow_cart.records.runs import LaneProgress, OwnRun, Progress, Run, Runs

__all__ = [
    "Arrival",
    "Chapter",
    "Held",
    "LaneProgress",
    "Ledger",
    "OwnRun",
    "PartRecord",
    "Progress",
    "Receipt",
    "Result",
    "Row",
    "Run",
    "RunSummary",
    "Runs",
    "ledger_path",
    "read_receipt",
    "read_runs",
    "read_story",
    "timestamp",
]
