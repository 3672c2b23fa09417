"""Named sign-ins in the config file, each with its address and without secrets."""

from __future__ import annotations

import difflib
import os
import tomllib
from collections.abc import Collection, Mapping
from pathlib import Path

from willow_cart.addresses import normalise, origin_of
from willow_cart.errors import BadAddress, BadOption
from willow_cart.sign_in.sign_ins import Secret, SignIn, read_secret

_SECRETS = ("password", "token", "account_key", "shared_access", "passphrase")
_KEYS = (
    "at",
    "user",
    "fields",
    "key",
    *_SECRETS,
    *(f"{each}_{kind}" for each in _SECRETS for kind in ("env", "file")),
)


def read_sign_ins(
    path: Path,
    environment: Mapping[str, str] = os.environ,
    *,
    besides: Collection[str] = (),
) -> dict[str, tuple[str | None, SignIn]]:
    """Read the sign-ins of a config file; empty without a file.

    Args:
        path: the file, in TOML.
        environment: the variables that secrets may be kept in.
        besides: tables of it that are others' business.

    Returns:
        By name: the origin that it is for, None where the file does not say, and the sign-in.

    Raises:
        BadOption: it cannot be read, or has an unknown key or value.
    """
    try:
        with path.open("rb") as file:
            content = tomllib.load(file)
    except FileNotFoundError:
        return {}
    except (OSError, tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise BadOption(str(path), f"cannot be read: {error}", "check the file") from None
    for key in content:
        if key not in ("sign_in", *besides):
            there_are = ", ".join(f"[{name}]" for name in ("sign_in.NAME", *besides))
            raise BadOption(f"{path}, {key}", "unknown key", f"there are {there_are}")
    entries = content.get("sign_in", {})
    if not isinstance(entries, dict):
        raise BadOption(f"{path}, sign_in", "not a table", "write [sign_in.NAME]")
    return sign_ins_in(str(path), entries, environment)


def sign_ins_in(
    place: str, entries: Mapping[str, object], environment: Mapping[str, str] = os.environ
) -> dict[str, tuple[str | None, SignIn]]:
    """Read sign-ins from tables by name; see `read_sign_ins`.

    Raises:
        BadOption: one has an unknown key or value.
    """
    return {
        name: _read_one(f"{place}, [sign_in.{name}]", entry, environment)
        for name, entry in entries.items()
    }


def _read_one(
    place: str, entry: object, environment: Mapping[str, str]
) -> tuple[str | None, SignIn]:
    if not isinstance(entry, dict):
        raise BadOption(place, "not a table", "write [sign_in.NAME]")
    for key, value in entry.items():
        if key not in _KEYS:
            near = difflib.get_close_matches(key, _KEYS, 1)
            meant = f"did you mean {near[0]}?" if near else f"there are {', '.join(_KEYS)}"
            raise BadOption(f"{place}, {key}", "unknown key", meant)
        if not isinstance(value, dict if key == "fields" else str):
            raise BadOption(f"{place}, {key}", "is of the wrong type", "write text in quotes")

    def secret(what: str) -> Secret | None:
        if what in entry:  # a reference, as on the command line
            return read_secret(entry[what], f"{place}, {what}", environment)
        for kind in ("env", "file"):
            if name := entry.get(f"{what}_{kind}"):
                return read_secret(f"{kind}:{name}", f"{place}, {what}_{kind}", environment)
        return None

    try:
        origin = origin_of(normalise(entry["at"])) if "at" in entry else None
    except BadAddress as error:
        raise BadOption(f"{place}, at", error.reason, error.advice) from None
    fields = tuple(
        (name, read_secret(str(reference), f"{place}, fields, {name}", environment))
        for name, reference in entry.get("fields", {}).items()
    )
    password, token, account_key, shared_access, passphrase = map(secret, _SECRETS)
    key = _key_in(place, entry.get("key", ""))
    return origin, SignIn(
        entry.get("user", ""),
        password,
        token,
        fields,
        account_key,
        shared_access,
        key=key,
        passphrase=passphrase,
    )  # fmt: skip


def _key_in(place: str, key: str) -> str:
    """Return the path of a private key, which has to be there."""
    if key and not Path(key).expanduser().is_file():
        raise BadOption(f"{place}, key", f"no such file: {key}", "check its path")
    return key
