"""Keep tokens between runs: in the system's keyring, or in files that only their owner can read."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from willow_cart.errors import Interrupted
from willow_cart.platform import files
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.oauth import OAuthSignIn, Token
from willow_cart.sign_in.secrets import require_keyring

_LOCK_POLL_SECONDS = 0.1

_SERVICE = "willow-cart tokens"


class TokenStore:
    """Keeps one token for each client at each server.

    Args:
        folder: for files; made when it is first written. None for no files.
    """

    def __init__(self, folder: Path | None) -> None:
        self._folder = folder

    @contextmanager
    def held(self, sign_in: OAuthSignIn, wait: Callable[[float], bool | None]) -> Iterator[None]:
        """Let no other process of this user renew the token meanwhile.

        Where files cannot be locked, nothing is held.

        Args:
            sign_in: whose token it is.
            wait: waits for a number of seconds, and returns whether the user wants to stop.

        Raises:
            Interrupted: they do.
        """
        with ExitStack() as held:
            if self._folder is not None:
                with suppress(OSError):
                    files.make_private(self._folder)
                    name = self._folder / f"{_name(sign_in)}.lock"
                    file = held.enter_context(name.open("ab"))
                    while not _try_to_lock(file.fileno()):
                        if wait(_LOCK_POLL_SECONDS):
                            raise Interrupted(without_secrets(sign_in.token_address), "interrupted")
            yield

    def load(self, sign_in: OAuthSignIn) -> Token | None:
        """Return the token of a sign-in, or None."""
        name = _name(sign_in)
        if sign_in.in_keyring:
            keyring = require_keyring("keep_tokens")

            with suppress(keyring.errors.KeyringError):
                return Token.from_text(keyring.get_password(_SERVICE, name) or "")
            return None
        if self._folder is None:
            return None
        with suppress(OSError, UnicodeDecodeError):
            return Token.from_text((self._folder / f"{name}.json").read_text("utf-8"))
        return None

    def keep(self, sign_in: OAuthSignIn, token: Token) -> None:
        """Keep a token; a run does not end because that fails."""
        name = _name(sign_in)
        if sign_in.in_keyring:
            keyring = require_keyring("keep_tokens")

            with suppress(keyring.errors.KeyringError):
                keyring.set_password(_SERVICE, name, token.as_text())
            return
        if self._folder is None:
            return
        with suppress(OSError):
            files.make_private(self._folder)
            # For its owner alone from the beginning (mkstemp has the mode 0600).
            descriptor, made = tempfile.mkstemp(dir=self._folder)
            with os.fdopen(descriptor, "w", encoding="utf-8") as file:
                file.write(token.as_text())
            Path(made).replace(self._folder / f"{name}.json")


def _try_to_lock(descriptor: int) -> bool:
    """Lock a file; False if another process holds it.

    Raises:
        OSError: files cannot be locked here.
    """
    try:
        files.lock(descriptor)
    except BlockingIOError:
        return False
    return True


def _name(sign_in: OAuthSignIn) -> str:
    """Return the token's file name (a hash)."""
    refresh = sign_in.refresh_token.value if sign_in.refresh_token else ""
    what = (sign_in.token_address, sign_in.client, sign_in.scope, refresh)
    return hashlib.sha256(repr(what).encode()).hexdigest()[:32]
