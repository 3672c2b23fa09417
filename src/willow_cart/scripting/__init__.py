"""The commands as functions, for scripts and notebooks: the same options, values in return."""

from willow_cart.scripting.calls import audit, errand, haul, load, survey
from willow_cart.scripting.results import Audit, ErrandRun, Haul, Survey

__all__ = ["Audit", "ErrandRun", "Haul", "Survey", "audit", "errand", "haul", "load", "survey"]
