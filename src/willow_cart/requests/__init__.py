"""The commands and their requests."""

from willow_cart.options.option import Option
from willow_cart.requests.commands import COMMANDS, Command, Group

__all__ = ["COMMANDS", "Command", "Group", "Option"]
