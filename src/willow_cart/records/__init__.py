"""What was: the ledger of a destination, and the receipts read from it."""

from willow_cart.records.ledger import Arrival, Held, Ledger, PartRecord, Result, timestamp
from willow_cart.records.receipt import Receipt, Row, ledger_path, read_receipt

__all__ = [
    "Arrival",
    "Held",
    "Ledger",
    "PartRecord",
    "Receipt",
    "Result",
    "Row",
    "ledger_path",
    "read_receipt",
    "timestamp",
]
