"""Decide where offers are filed: safe names, layouts, templates, unique paths."""

from willow_cart.filing.plan import Clash, Filed, Plan, make_plan, marked, require_fields
from willow_cart.filing.templates import Layout, Template

__all__ = [
    "Clash",
    "Filed",
    "Layout",
    "Plan",
    "Template",
    "make_plan",
    "marked",
    "require_fields",
]
