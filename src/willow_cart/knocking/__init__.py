"""Test a server step by step: name, port, TLS, listing, fetching, resuming."""

from willow_cart.knocking.steps import Knocker, KnockFinding, Verdict

__all__ = ["KnockFinding", "Knocker", "Verdict"]
