"""What operating systems do in ways of their own; no other package knows which one this is.

There is one family of modules for POSIX (Linux and macOS) and one for Windows, with the same
functions and classes in both. It is chosen here.
"""

import sys

if sys.platform == "win32":
    from willow_cart.platform.windows import (
        containment,
        disks,
        files,
        processes,
    )
else:
    from willow_cart.platform.posix import (
        containment,
        disks,
        files,
        processes,
    )

__all__ = ["containment", "disks", "files", "processes"]
