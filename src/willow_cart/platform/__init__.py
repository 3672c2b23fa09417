"""What operating systems do in ways of their own; no other package knows which one this is.

There is one family of modules for POSIX (Linux and macOS) and one for Windows, with the same
functions and classes in both. It is chosen here.
"""

import sys

if sys.platform == "win32":
    from willow_cart.platform.windows import (
        connections,
        consoles,
        containment,
        disks,
        files,
        locks,
        processes,
    )
else:
    from willow_cart.platform.posix import (
        connections,
        consoles,
        containment,
        disks,
        files,
        locks,
        processes,
    )

__all__ = ["connections", "consoles", "containment", "disks", "files", "locks", "processes"]
