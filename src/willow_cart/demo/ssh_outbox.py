"""The contractor's outbox over SFTP: a real SSH server on a free port."""

from __future__ import annotations

import asyncio
import threading
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

if TYPE_CHECKING:
    import asyncssh


class SshOutbox:
    """An SFTP server for the files of a folder.

    Args:
        folder: what is served, as `/`.
        user, password: who is authorised.

    Attributes:
        base: its address, with the user.
        fingerprint: of its key, as `--host-key` takes it.
    """

    def __init__(self, folder: Path, user: str, password: str) -> None:
        self._folder = folder
        self._user = user
        self._password = password
        self._loop: asyncio.AbstractEventLoop
        self._thread: threading.Thread
        self._server: asyncssh.SSHAcceptor
        self.base = self.fingerprint = ""

    def __enter__(self) -> Self:
        import asyncssh

        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()
        key = asyncssh.generate_private_key("ssh-ed25519")
        self.fingerprint = key.get_fingerprint()

        async def listen() -> asyncssh.SSHAcceptor:
            return await asyncssh.listen(
                "127.0.0.1", 0, server_host_keys=[key],
                server_factory=partial(_make_door, self._user, self._password),
                sftp_factory=partial(asyncssh.SFTPServer, chroot=bytes(self._folder)),
            )  # fmt: skip

        self._server = asyncio.run_coroutine_threadsafe(listen(), self._loop).result()
        self.base = f"sftp://{self._user}@127.0.0.1:{self._server.get_port()}"
        return self

    def __exit__(self, *_: object) -> None:
        async def end() -> None:
            self._server.close()
            await self._server.wait_closed()
            running = asyncio.all_tasks() - {asyncio.current_task()}
            for task in running:
                task.cancel()
            await asyncio.gather(*running, return_exceptions=True)

        asyncio.run_coroutine_threadsafe(end(), self._loop).result()
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()
        self._loop.close()


def _make_door(user: str, password: str) -> Any:
    """Return what lets one user in by a password."""
    import asyncssh

    class Door(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:  # noqa: ARG002  # everyone is asked
            return True

        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password_: str) -> bool:
            return (username, password_) == (user, password)

    return Door()
