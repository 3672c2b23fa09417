"""`python -m willow_cart`."""

import sys

from willow_cart.cli.main import main

if __name__ == "__main__":
    sys.exit(main())
