"""Knocking at a place: its name, port, TLS, listing, fetching and resuming, step by step."""

from willow_cart.knocking.steps import Knocker, KnockFinding, Verdict

__all__ = ["KnockFinding", "Knocker", "Verdict"]
