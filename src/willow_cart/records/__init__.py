"""What was: the ledger of a destination, and the receipts read from it."""

from willow_cart.records.ledger import Arrival, Held, Ledger, PartRecord, Result, timestamp
from willow_cart.records.receipt import Receipt, Row, ledger_path, read_receipt
from willow_cart.records.runs import LaneProgress, OwnRun, Progress, Run, Runs

__all__ = [
    "Arrival",
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
    "Runs",
    "ledger_path",
    "read_receipt",
    "timestamp",
]
