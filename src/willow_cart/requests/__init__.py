"""What can be asked for: which commands there are, and what each can be asked for."""

from willow_cart.options.option import Option
from willow_cart.requests.commands import COMMANDS, Command, Group

__all__ = ["COMMANDS", "Command", "Group", "Option"]
