"""The connections to SFTP servers: few of them, with several files on each at a time.

Asyncssh runs in an event loop in a thread of its own; lanes hand their requests to it.
"""

from __future__ import annotations

import asyncio
import concurrent.futures
import os
import threading
from collections import defaultdict
from collections.abc import Coroutine, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import unquote, urlsplit

import asyncssh

from willow_cart.addresses import host_of, origin_of
from willow_cart.errors import (
    ConnectionLost,
    NotTrusted,
    TransferFailed,
)
from willow_cart.platform import processes
from willow_cart.protocols.sftp import sftp_errors
from willow_cart.protocols.sockets import RequestPacer, SocketGuard
from willow_cart.sign_in.origins import Credential
from willow_cart.sign_in.sign_ins import SignIn, SignIns
from willow_cart.structs import Record, field

_FILES = ("~/.ssh/known_hosts", "/etc/ssh/ssh_known_hosts")
"""The user's, and that of the machine (sshd(8), SSH_KNOWN_HOSTS FILE FORMAT)."""


class HostKeys:
    """The keys of trusted servers.

    Args:
        accepted: fingerprints that the user accepts besides, as `SHA256:...`.
        files: the known hosts.
    """

    def __init__(self, accepted: Iterable[str] = (), files: Sequence[str] = _FILES) -> None:
        self._accepted = frozenset(each.rstrip("=") for each in accepted)
        self._files = [Path(os.path.expanduser(each)) for each in files]

    def known_hosts(self) -> Any:
        """Return the known hosts for asyncssh; lines that it cannot read are left out."""
        import asyncssh

        lines: list[str] = []
        for file in self._files:
            with suppress(OSError):
                lines += file.read_text(encoding="utf-8", errors="replace").splitlines()
        try:
            return asyncssh.import_known_hosts("\n".join(lines) + "\n")
        except ValueError:
            good = [line for line in lines if _is_known_host(line)]
            return asyncssh.import_known_hosts("\n".join(good) + "\n")

    def judge(self, host: str, address: str, port: int, key: Any) -> NotTrusted | None:
        """Judge a key that is not among the known hosts.

        Args:
            host: as it was asked for.
            address: its number.
            port: as above.
            key: what it has proved to hold.

        Returns:
            Why it is refused; None if the user accepts it.
        """
        import asyncssh

        fingerprint = key.get_fingerprint()
        if fingerprint.rstrip("=") in self._accepted:
            return None
        shown = host if port == 22 else f"{host}:{port}"
        known = asyncssh.match_known_hosts(self.known_hosts(), host, address, port)[0]
        if known:
            was = ", ".join(each.get_fingerprint() for each in known)
            return NotTrusted(
                shown,
                f"the host key has changed: {fingerprint}, known is {was}",
                "ask the operator before you remove the old key from ~/.ssh/known_hosts",
            )
        return NotTrusted(
            shown,
            f"the host key is unknown: {fingerprint}",
            f"compare it with the operator's, and accept it with --host-key {fingerprint}",
        )


def _is_known_host(line: str) -> bool:
    import asyncssh

    try:
        asyncssh.import_known_hosts(line)
    except ValueError:
        return False
    return True


# Files of one connection share its window and its place in the server's queue.
_FILES_PER_CONNECTION = 4
_MAX_CONNECTIONS = 4

_CONNECT_SECONDS = 20.0
_CLOSE_SECONDS = 2.0

# AES-GCM first: it is checked and decrypted in one step, which is twice as fast here.
_CIPHERS = (
    "aes128-gcm@openssh.com", "aes256-gcm@openssh.com", "chacha20-poly1305@openssh.com",
    "aes256-ctr", "aes192-ctr", "aes128-ctr",
)  # fmt: skip
_MACS = (
    "hmac-sha2-256-etm@openssh.com", "hmac-sha2-512-etm@openssh.com", "hmac-sha1-etm@openssh.com",
    "hmac-sha2-256", "hmac-sha2-512", "hmac-sha1",
)  # fmt: skip

# Signatures by SHA-1 can be forged (RFC 8332); the same RSA keys sign by SHA-2.
_HOST_KEYS = "-ssh-rsa,ssh-rsa-cert-v01@openssh.com,ssh-dss,ssh-dss-cert-v01@openssh.com"

# What is the user's own in connections to a server that another server named: nothing.
_NOTHING_OWN: Mapping[str, Any] = {
    "config": None, "client_keys": None, "agent_path": None, "gss_host": None,
    "username": "anonymous",
}  # fmt: skip

Answer = TypeVar("Answer")


class Session(Record, eq=False):
    """A connection with its SFTP session.

    Attributes:
        origin: of the server.
        connection, sftp: what asyncssh knows them by.
        files: how many are open.
    """

    origin: str
    connection: asyncssh.SSHClientConnection
    sftp: asyncssh.SFTPClient
    files: int = 0
    _closing: set[asyncio.Task[None]] = field(default_factory=set)

    def close_later(self, file: Any) -> None:
        """Close a file without waiting for the answer; to be called in the loop."""
        closing = asyncio.ensure_future(_close(file))
        self._closing.add(closing)
        closing.add_done_callback(self._closing.discard)


class SftpConnections:
    """The connections to all servers; thread-safe.

    Args:
        sign_ins: the credentials for each origin.
        host_keys: which servers are trusted.
        stall_after: seconds without an answer after which a connection is given up.
        pacer: keeps gaps between requests; None for no gaps.
    """

    def __init__(
        self,
        *,
        sign_ins: SignIns,
        host_keys: HostKeys,
        stall_after: float,
        pacer: RequestPacer | None,
    ) -> None:
        self.stall_after = stall_after
        self._sign_ins = sign_ins
        self._host_keys = host_keys
        self._guard = SocketGuard(pacer)
        self._sessions: defaultdict[str, list[Session]] = defaultdict(list)
        self._making: defaultdict[str, int] = defaultdict(int)
        self._refuses_more: set[str] = set()
        self._change = threading.Condition()
        self._aborted = False
        self._loop: asyncio.AbstractEventLoop | None = None
        self._thread = threading.Thread()

    # The loop

    def start(self, request: Coroutine[Any, Any, Answer]) -> concurrent.futures.Future[Answer]:
        """Have the loop make a request."""
        return asyncio.run_coroutine_threadsafe(request, self._running_loop())

    def start_all(
        self, requests: Sequence[Coroutine[Any, Any, Answer]]
    ) -> list[concurrent.futures.Future[Answer]]:
        """Have the loop make several requests at once."""
        answers = [concurrent.futures.Future[Answer]() for _ in requests]
        self.start(_answer_all(requests, answers))
        return answers

    def run(self, address: str, request: Coroutine[Any, Any, Answer], seconds: float) -> Answer:
        """Make a request, and wait for its answer.

        Raises:
            TransferFailed: it failed, or took too long.
        """
        return self.wait_for(address, self.start(request), seconds)

    def wait_for(
        self, address: str, answer: concurrent.futures.Future[Answer], seconds: float
    ) -> Answer:
        """Wait for an answer.

        Raises:
            TransferFailed: as for `run`.
        """
        try:
            return answer.result(seconds)
        except (Exception, concurrent.futures.CancelledError) as error:
            answer.cancel()
            raise self.translate(error, address) from error

    def _running_loop(self) -> asyncio.AbstractEventLoop:
        with self._change:
            if self._loop is None:
                self._loop = asyncio.new_event_loop()
                self._thread = threading.Thread(
                    target=self._loop.run_forever, name="sftp", daemon=True
                )
                self._thread.start()
            return self._loop

    # Connections

    def wait_turn(self, host: str) -> None:
        """Wait until a host may be asked again.

        Raises:
            ConnectionLost: everything ends.
        """
        try:
            self._guard.wait_turn(host)
        except OSError as error:
            raise ConnectionLost(host, "the program is stopping") from error

    @contextmanager
    def lend(self, address: str) -> Iterator[Session]:
        """Yield a session for a few requests."""
        session = self.take(address)
        try:
            yield session
        finally:
            self.release(session)

    def take(self, address: str) -> Session:
        """Return the session with the fewest files, or a new one while there are few.

        Raises:
            TransferFailed: no connection can be made.
        """
        origin = origin_of(address)
        with self._change:
            while True:
                sessions = self._living(origin)
                least = min(sessions, key=lambda each: each.files, default=None)
                may_make = (
                    len(sessions) + self._making[origin] < _MAX_CONNECTIONS
                    and origin not in self._refuses_more
                )
                if least is not None and (least.files < _FILES_PER_CONNECTION or not may_make):
                    least.files += 1
                    return least
                if may_make and not (least is None and self._making[origin]):
                    self._making[origin] += 1
                    break
                # The first connection is being made: with it, it is known how it goes.
                self._change.wait(_CONNECT_SECONDS)
        try:
            session = self._make(address)
        except TransferFailed:
            with self._change:
                self._making[origin] -= 1
                self._change.notify_all()
                if (others := self._living(origin)) and not self._aborted:
                    self._refuses_more.add(origin)  # it has as many as it wants
                    least = min(others, key=lambda each: each.files)
                    least.files += 1
                    return least
            raise
        with self._change:
            self._making[origin] -= 1
            self._sessions[origin].append(session)
            self._change.notify_all()
        return session

    def standing(self, address: str) -> Session | None:
        """Return the session with the fewest files, without connecting; None if none is open."""
        with self._change:
            return min(self._living(origin_of(address)), key=lambda each: each.files, default=None)

    def _living(self, origin: str) -> list[Session]:
        living = [each for each in self._sessions[origin] if not each.connection.is_closed()]
        self._sessions[origin] = living
        return living

    def close_file(self, session: Session, file: Any) -> None:
        """Close a file without waiting for the answer."""
        if (loop := self._loop) is not None:
            with suppress(RuntimeError):  # it has ended
                loop.call_soon_threadsafe(session.close_later, file)

    def release(self, session: Session) -> None:
        """Count that a session has a file less."""
        with self._change:
            session.files -= 1

    def _make(self, address: str) -> Session:
        if self._aborted:
            raise ConnectionLost(host_of(address), "the program is stopping")
        refusals: list[NotTrusted] = []
        session = self._connect(address, refusals)
        try:
            return self.run(address, session, _CONNECT_SECONDS + self.stall_after)
        except TransferFailed as error:
            if refusals:
                raise refusals[0] from error
            raise

    async def _connect(self, address: str, refusals: list[NotTrusted]) -> Session:
        host_keys = self._host_keys

        class Client(asyncssh.SSHClient):
            def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
                self._socket = conn.get_extra_info("socket")

            def debug_msg_received(self, *_: object) -> None:
                # OpenSSH's server sends what it has to say of the key in several messages, and
                # waits until the first is acknowledged before it answers.
                if self._socket is not None:
                    processes.acknowledge_at_once(self._socket)

            def validate_host_public_key(
                self, host: str, addr: str, port: int, key: asyncssh.SSHKey
            ) -> bool:
                refusal = host_keys.judge(host, addr, port, key)
                refusals.extend([refusal] if refusal else [])
                return refusal is None

        connection = await asyncssh.connect(
            urlsplit(address).hostname or "",
            known_hosts=host_keys.known_hosts(),
            client_factory=Client,
            connect_timeout=_CONNECT_SECONDS,
            login_timeout=self.stall_after,
            keepalive_interval=max(1.0, self.stall_after / 2),
            encryption_algs=_CIPHERS,
            mac_algs=_MACS,
            server_host_key_algs=_HOST_KEYS,
            compression_algs=["none"],
            **self._options_for(address),
        )
        try:
            sftp = await connection.start_sftp_client(path_encoding=None)
        except BaseException:
            connection.abort()
            raise
        return Session(origin_of(address), connection, sftp, files=1)

    def _options_for(self, address: str) -> dict[str, Any]:
        """Return the user and the credentials for a server, as options of asyncssh."""
        parts = urlsplit(address)
        sign_in = self._sign_ins.sign_in_for(address) or SignIn()
        config = Path("~/.ssh/config").expanduser()
        options: dict[str, Any] = {"config": [str(config)] if config.is_file() else None}
        if not self._may_use_own_keys(address):
            options |= _NOTHING_OWN
        if parts.port:
            options["port"] = parts.port
        if user := (unquote(parts.username or "") or sign_in.user):
            options["username"] = user
        if sign_in.password is not None:
            options["password"] = sign_in.password.value
        if sign_in.key:
            options["client_keys"] = [sign_in.key]
            options["passphrase"] = sign_in.passphrase and sign_in.passphrase.value
        return options

    def _may_use_own_keys(self, address: str) -> bool:
        return self._sign_ins.origins.allow(Credential.SSH_KEY, origin_of(address))

    # The end

    def abort(self) -> None:
        """End every exchange; each fails, and no new one starts."""
        self._aborted = True
        self._guard.abort()
        with self._change:
            loop = self._loop
            sessions = [each for some in self._sessions.values() for each in some]
            self._change.notify_all()
        if loop is not None:
            for session in sessions:
                loop.call_soon_threadsafe(session.connection.abort)

    def close(self) -> None:
        """Close all connections, and end the loop."""
        self._aborted = True
        with self._change:
            loop, self._loop = self._loop, None
            sessions = [each for some in self._sessions.values() for each in some]
            self._sessions.clear()
        if loop is None:
            return
        ended = asyncio.run_coroutine_threadsafe(_close_all(sessions), loop)
        with suppress(concurrent.futures.TimeoutError, TimeoutError):
            ended.result(_CLOSE_SECONDS)
        loop.call_soon_threadsafe(loop.stop)
        self._thread.join(_CLOSE_SECONDS)
        if not self._thread.is_alive():
            loop.close()

    def translate(self, error: BaseException, address: str) -> TransferFailed:
        """Translate an exception of asyncssh or the system into one of ours."""
        signed = self._sign_ins.sign_in_for(address) is not None
        return sftp_errors.translate(
            error,
            address,
            stall_after=self.stall_after,
            signed=signed,
            with_keys=self._may_use_own_keys(address),
        )


async def _answer_all(
    requests: Sequence[Coroutine[Any, Any, Answer]],
    answers: Sequence[concurrent.futures.Future[Answer]],
) -> None:
    """Make requests at the same time, and put each result where it is waited for."""

    async def answer_one(
        request: Coroutine[Any, Any, Answer], answer: concurrent.futures.Future[Answer]
    ) -> None:
        try:
            answer.set_result(await request)
        except BaseException as error:
            answer.set_exception(error)
            raise

    await asyncio.gather(*map(answer_one, requests, answers), return_exceptions=True)


async def _close(file: Any) -> None:
    with suppress(asyncssh.Error, OSError):
        await file.close()


async def _close_all(sessions: list[Session]) -> None:
    for session in sessions:
        session.connection.close()
    await asyncio.gather(
        *(session.connection.wait_closed() for session in sessions), return_exceptions=True
    )
