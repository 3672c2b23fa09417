"""Audit a destination: check whether its files are still those that arrived."""

from willow_cart.auditing.at_rest import Audited, Finding, audit
from willow_cart.auditing.findings import HARMED, Findings
from willow_cart.auditing.upstream import ask_upstream

__all__ = ["HARMED", "Audited", "Finding", "Findings", "ask_upstream", "audit"]
