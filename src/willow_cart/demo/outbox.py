"""The contractor's FTP outbox: a real FTP server on a free port."""

from __future__ import annotations

import threading
import warnings
from pathlib import Path
from typing import Any, Self

with warnings.catch_warnings():
    # The library uses a module of the standard library that Python 3.12 has left out.
    warnings.simplefilter("ignore", DeprecationWarning)
    from pyftpdlib.authorizers import DummyAuthorizer
    from pyftpdlib.handlers import FTPHandler
    from pyftpdlib.log import config_logging
    from pyftpdlib.servers import FTPServer


class Outbox:
    """An FTP server for the files of a folder.

    Args:
        folder: what is served.
        port: 0 takes a free one.
        user: who is authorised, as `user:password`; empty allows everybody.
        most: how many connections at a time; 0 for any number.
        handler: how a connection is served; replaced by tests that want faults.

    Attributes:
        base: the address of its root, without a slash at the end.
    """

    def __init__(
        self,
        folder: Path,
        port: int = 0,
        *,
        user: str = "",
        most: int = 0,
        handler: type[Any] = FTPHandler,
    ) -> None:
        config_logging(level=50)
        authorizer = DummyAuthorizer()
        if user:
            authorizer.add_user(*user.split(":", 1), str(folder), perm="elr")
        else:
            authorizer.add_anonymous(str(folder))
        served = type("Handler", (handler,), {"authorizer": authorizer, "banner": "Harrowmere"})
        self._server = FTPServer(("127.0.0.1", port), served)
        self._server.max_cons = most
        self.base = f"ftp://127.0.0.1:{self._server.address[1]}"
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._serve, daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()

    def _serve(self) -> None:
        # All of the library's sockets belong to the thread that serves them.
        while not self._stop.is_set():
            self._server.serve_forever(timeout=0.05, blocking=False, handle_exit=False)
        self._server.close_all()
