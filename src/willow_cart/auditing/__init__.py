"""Audit a destination: check whether its files are still those that arrived."""

from willow_cart.auditing.at_rest import HARMED, Audited, Finding, Findings, ask_upstream, audit

__all__ = ["HARMED", "Audited", "Finding", "Findings", "ask_upstream", "audit"]
