"""The request of `completion`."""

from __future__ import annotations

from willow_cart.options.option import argument
from willow_cart.requests.request import Request


class CompletionRequest(Request):
    """A request for a completion script."""

    command = "completion"

    shell: str = argument("", str, "the shell: bash, zsh or fish", choices=("bash", "zsh", "fish"))
