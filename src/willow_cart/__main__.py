"""The program: `willow-cart`, and `python -m willow_cart`."""

import gc
import sys

# Next to nothing of what is loaded becomes garbage, so the first look for it comes late: by
# default Python looks dozens of times before a command begins.
gc.set_threshold(10_000)

from willow_cart.cli.main import main  # noqa: E402


def start() -> None:
    """Run the command that was typed, and exit with its code."""
    try:
        sys.exit(main())
    finally:
        gc.freeze()  # all memory is given back at once, without a last look for garbage


if __name__ == "__main__":
    start()
