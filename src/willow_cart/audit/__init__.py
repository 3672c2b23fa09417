"""Auditing a destination: whether what lies there is still what arrived."""

from willow_cart.audit.at_rest import Audited, Finding, audit
from willow_cart.audit.upstream import ask_upstream

__all__ = ["Audited", "Finding", "ask_upstream", "audit"]
