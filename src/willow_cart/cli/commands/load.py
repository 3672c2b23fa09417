"""`load`: write the chosen offers into a cart."""

from __future__ import annotations

from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_line, tell_each
from willow_cart.commands.load import LoadRequest, load
from willow_cart.errors import BadOption
from willow_cart.units import count_of


def run(request: LoadRequest) -> int:
    """List the sources, choose, and write the cart."""
    if request.cart is None and request.to_script is None:
        raise BadOption("load", "has no output", "give --cart FILE or --to-script FILE.py")
    loaded = load(request, Console())
    if loaded.cart is not None:
        show_line(loaded.cart.summary)
    if (script := loaded.script) is not None:
        tell_each(script.left_out)
        files = count_of(script.files, "file")
        show_line(f"{script.path}: hauls {files}; run python3 {script.path} --into DIR")
    return loaded.exit_code
