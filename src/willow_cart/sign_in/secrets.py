"""Secrets, and where users keep them: the environment, files, the keyring."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from willow_cart.errors import BadOption, plainly, said_in
from willow_cart.structs import Value, replace

_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029]")

_KEYRING_SERVICE = "willow-cart"

# No secret is longer, and no device such as /dev/zero comes to an end.
_MAX_SECRET_BYTES = 1 << 16


class Secret(Value):
    """A secret that is hidden unless its value is requested.

    Attributes:
        value: what it is; empty where only its name was sent to another machine.
        name: where it is from: `env:NAME`; empty if other machines have nothing by that name.
    """

    value: str
    name: str = ""

    def __str__(self) -> str:
        return "***"

    def __repr__(self) -> str:
        return f"Secret(name={self.name!r})"


_given: dict[str, Secret] = {}


def refer_to(secret: Secret) -> str:
    """Return a reference to a secret that a script gives; it is valid in this process only."""
    for reference, known in _given.items():
        if known == secret:
            return reference
    reference = f"given:{len(_given) + 1}"
    _given[reference] = secret
    return reference


def read_secret(reference: str, what: str, environment: Mapping[str, str] = os.environ) -> Secret:
    """Read a secret from the environment, a file or the keyring.

    Args:
        reference: `env:NAME` for an environment variable, `file:PATH` for a file's first line,
            `keyring:NAME` for an entry of the system's keyring.
        what: what it is wanted for, for messages.
        environment: the variables.

    Raises:
        BadOption: it does not exist there, or the reference is invalid.
    """
    kind, _, name = reference.partition(":")
    if kind == "env" and name:
        if not environment.get(name):
            raise BadOption(what, f"the environment variable {name} is not set", "set it")
        secret = _checked(environment[name], what, f"the environment variable {name}")
        return replace(secret, name=reference)
    if kind == "file" and name:
        try:
            with Path(name).expanduser().open(encoding="utf-8-sig") as file:
                line = file.readline(_MAX_SECRET_BYTES).strip()
        except UnicodeDecodeError:
            raise BadOption(what, f"{name} is not UTF-8", "save it as UTF-8") from None
        except (OSError, RuntimeError) as error:
            why = plainly(error) if isinstance(error, OSError) else "no home folder"
            raise BadOption(what, f"{name} cannot be read: {why}", "check its path") from None
        if not line:
            raise BadOption(what, f"{name} is empty", "put the secret into its first line")
        return _checked(line, what, name)
    if reference in _given:
        return _checked(_given[reference].value, what, "the given secret")
    if kind == "keyring" and name:
        return _checked(_from_keyring(name, what), what, f"the keyring's entry {name}")
    raise BadOption(
        what, "must not be given as plain text", "write env:NAME, file:PATH or keyring:NAME"
    )


def require_keyring(what: str) -> Any:
    """Return the package for the keyring of the system.

    Raises:
        BadOption: it is not installed.
    """
    try:
        import keyring
        import keyring.errors
    except ImportError:
        raise BadOption(
            what,
            "requires the package keyring, which is not installed",
            "install it with pip install 'willow-cart[keyring]', or write env:NAME or file:PATH",
        ) from None
    return keyring


def _from_keyring(name: str, what: str) -> str:
    """Return a secret from the keyring of the system, where it is kept for this program.

    Raises:
        BadOption: the entry or the keyring does not exist.
    """
    keyring = require_keyring(what)
    try:
        value: str | None = keyring.get_password(_KEYRING_SERVICE, name)
    except keyring.errors.KeyringError as error:
        raise BadOption(
            what, f"the keyring cannot be read: {said_in(error)}", "write env:NAME or file:PATH"
        ) from None
    if not value:
        raise BadOption(
            what,
            f"the keyring has no entry {name} of {_KEYRING_SERVICE}",
            f"enter it with keyring set {_KEYRING_SERVICE} {name}",
        )
    return value


def _checked(value: str, what: str, where: str) -> Secret:
    """Return a secret without a final line end.

    Raises:
        BadOption: it contains control characters, of which it must not be shown where.
    """
    value = value.rstrip("\r\n")
    if not value or _CONTROL.search(value):
        raise BadOption(what, f"{where} contains control characters", "set it again, without them")
    return Secret(value)
