"""One FTP connection: signing in, securing the data connections, moving between folders."""

from __future__ import annotations

import ftplib
import socket
import ssl
from contextlib import suppress

_ENCODING = "latin-1"
"""One character a byte, so that names go back to the server as they came."""

_IMPLICIT_PORT = 990


class Connection(ftplib.FTP_TLS):
    """A control connection (RFC 959), secured (RFC 4217) or not.

    Args:
        host, port: where to.
        secure: whether with TLS: from the first byte on the port that is kept for that, else by
            AUTH TLS.
        context: for TLS.
        active: whether the server connects to us for data, instead of us to it.
        connect_after: seconds after which a connection that is not made is given up.

    Attributes:
        features: what the server has announced that it can do (RFC 2389).
        rests_since: when it was last given back, by the clock of whoever keeps it.
    """

    def __init__(
        self,
        host: str,
        port: int,
        *,
        secure: bool,
        context: ssl.SSLContext,
        active: bool,
        connect_after: float,
    ) -> None:
        super().__init__(context=context, encoding=_ENCODING, timeout=connect_after)
        self._secure = secure
        self._implicit = secure and port == _IMPLICIT_PORT
        self._extended = True
        self._here: tuple[str, ...] | None = None
        self.features: frozenset[str] = frozenset()
        self.rests_since = float("inf")
        self.set_pasv(not active)
        self._open_control(host, port, connect_after)

    def _open_control(self, host: str, port: int, timeout: float) -> None:
        self.host, self.port = host, port
        sock: socket.socket = socket.create_connection((host, port), timeout)
        try:
            self.af = sock.family
            if self._implicit:
                sock = self.context.wrap_socket(sock, server_hostname=host)
            self.sock = sock
            self.file = sock.makefile("r", encoding=self.encoding)
            self.welcome = self.getresp()
            if self._secure and not self._implicit:
                self.auth()
        except BaseException:
            sock.close()
            raise

    def sign_in(self, user: str, password: str) -> None:
        """Sign in, protect the data connections, and learn what the server can do."""
        ftplib.FTP.login(self, user, password)
        if self._secure:
            self.prot_p()
        self.voidcmd("TYPE I")  # every file byte by byte
        with suppress(ftplib.error_perm, ftplib.error_temp):
            lines = self.sendcmd("FEAT").splitlines()[1:-1]
            self.features = frozenset(line.strip().upper() for line in lines)
        if "UTF8" in self.features:
            with suppress(ftplib.error_perm, ftplib.error_temp):
                self.sendcmd("OPTS UTF8 ON")
        self._home = self.pwd()
        self._here = ()

    def knows(self, feature: str) -> bool:
        """Whether the server has announced a feature (RFC 2389)."""
        return any(line.split(" ")[0] == feature for line in self.features)

    def go_to(self, folders: tuple[str, ...]) -> None:
        """Change to a folder below where signing in has led (RFC 1738, 3.2.2).

        Step by step, since a path with blanks or of a foreign style is not understood everywhere.
        """
        if self._here == folders:
            return
        self._here = None
        if folders and folders[0] == "":
            # An address whose path begins with an encoded slash starts at the root.
            self.cwd("/")
            folders_below = folders[1:]
        else:
            self.cwd(self._home)
            folders_below = folders
        for folder in folders_below:
            if folder:
                self.sendcmd(f"CWD {folder}")
        self._here = folders

    def makepasv(self) -> tuple[str, int]:
        """Ask for a data port: extended (RFC 2428), else plain.

        The host is the control connection's in either case: an answer that names another could
        make this machine knock elsewhere.
        """
        assert self.sock is not None, "it is connected"
        peer = self.sock.getpeername()
        host: str = peer[0]
        if self._extended:
            try:
                return host, ftplib.parse229(self.sendcmd("EPSV"), peer)[1]
            except (ftplib.error_perm, ftplib.error_proto):
                self._extended = False
        return host, ftplib.parse227(self.sendcmd("PASV"))[1]

    def open_data(self, command: str, start: int = 0) -> socket.socket:
        """Open a data connection for a command, from a byte on (REST, RFC 3659, 5)."""
        connection, _ = ftplib.FTP.ntransfercmd(self, command, start or None)
        if not self._secure:
            return connection
        try:
            # Servers demand the session of the control connection, to know who connects.
            session = self.sock.session if isinstance(self.sock, ssl.SSLSocket) else None
            return self.context.wrap_socket(connection, server_hostname=self.host, session=session)
        except BaseException:
            connection.close()
            raise

    def hang_up(self) -> None:
        """Close everything at once."""
        with suppress(OSError, EOFError):
            self.close()
