"""Default values of options, policies and accesses."""

LANES = 16
"""Files, or strands of files, that are fetched at a time."""

LANES_PER_HOST = 8
"""Of them at one host, at first."""

MOST_LANES_PER_HOST = 16
"""And while it keeps getting faster with more of them."""

QUESTIONS = 4
"""Folders that are listed, and sizes that are asked for, at a time."""

CONNECT_SECONDS: float = 20
"""After this time a connection that is not made is given up."""

STALL_SECONDS: float = 60
"""After this time without a byte a connection counts as broken."""

REQUEST_BYTES = 128 << 10
"""A request takes about as long as this many bytes, on a line of 2 MB/s with 60 ms of latency."""
