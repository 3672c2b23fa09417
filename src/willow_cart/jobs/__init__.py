"""The jobs of the program: which commands there are, and what each can be asked for."""

from willow_cart.jobs.commands import COMMANDS, Command, Group
from willow_cart.jobs.option import Option

__all__ = ["COMMANDS", "Command", "Group", "Option"]
