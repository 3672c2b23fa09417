"""Which SSH servers are trusted: by `known_hosts`, or by a fingerprint that the user names."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from willow_cart.errors import NotTrusted

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
            port: likewise.
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
