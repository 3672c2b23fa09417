"""The ledger of a destination, and the receipts read from it."""
