"""Where an offer goes: safe names, folders by layout, and one name for one file."""

from willow_cart.filing.layouts import Layout
from willow_cart.filing.names import safe_name, safe_path
from willow_cart.filing.plan import Clash, Filed, Plan, make_plan

__all__ = ["Clash", "Filed", "Layout", "Plan", "make_plan", "safe_name", "safe_path"]
