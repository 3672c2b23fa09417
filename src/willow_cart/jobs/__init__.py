"""The jobs of the program: which commands there are, and which options each has."""

from willow_cart.jobs.commands import COMMANDS, Command, Group
from willow_cart.jobs.option import Option, options_in

__all__ = ["COMMANDS", "Command", "Group", "Option", "options_in"]
