"""Named sign-ins in the config file, each with its address and without secrets."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Collection, Mapping
from pathlib import Path
from typing import Any

from willow_cart.addresses import normalise, origin_of
from willow_cart.errors import BadAddress, BadOption
from willow_cart.redaction import SECRET_REFERENCES
from willow_cart.sign_in.login_form import FormSignIn
from willow_cart.sign_in.oauth import OAuthSignIn
from willow_cart.sign_in.secrets import Secret, read_secret, require_keyring
from willow_cart.sign_in.sign_ins import SignIn
from willow_cart.synonyms import key_for

# The names of fields whose values must not be read by others.
_SECRET_NAME = re.compile(r"pass|pw|secret|pin|token|code", re.IGNORECASE)

_SECRETS = (
    "password", "token", "account_key", "shared_access", "passphrase", "client_secret",
    "refresh_token",
)  # fmt: skip
_OAUTH = ("token_address", "device_address", "client", "scope", "keep_tokens")
_KEYS = (
    "address",
    "user",
    "fields",
    "key",
    "form",
    "form_fields",
    "only_from",
    *_OAUTH,
    *_SECRETS,
    *(f"{each}_{kind}" for each in _SECRETS for kind in ("env", "file")),
)


# The others are texts.
_TYPES: Mapping[str, type | tuple[type, ...]] = {
    "fields": dict, "form_fields": dict, "only_from": (str, list)
}  # fmt: skip


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
        By name: the origin that it is for, None if the file does not state it, and the sign-in.

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
    _require_known_keys(place, entry)

    def secret(what: str) -> Secret | None:
        if what in entry:  # a reference, as on the command line
            return read_secret(entry[what], f"{place}, {what}", environment)
        for kind in ("env", "file"):
            if name := entry.get(f"{what}_{kind}"):
                return read_secret(f"{kind}:{name}", f"{place}, {what}_{kind}", environment)
        return None

    try:
        origin = origin_of(normalise(entry["address"])) if "address" in entry else None
    except BadAddress as error:
        raise BadOption(f"{place}, address", error.reason, error.advice) from None
    fields = tuple(
        (name, read_secret(str(reference), f"{place}, fields, {name}", environment))
        for name, reference in entry.get("fields", {}).items()
    )
    secrets = {what: secret(what) for what in _SECRETS}
    form = _form_in(place, entry, secrets["password"], environment)
    oauth = _oauth_in(place, entry, secrets)
    if (form or oauth) and origin is None:
        raise BadOption(f"{place}, address", "is missing", "give the server's address")
    places = entry.get("only_from", [])
    return origin, SignIn(
        entry.get("user", ""),
        None if form else secrets["password"],
        secrets["token"],
        fields,
        secrets["account_key"],
        secrets["shared_access"],
        key=_key_in(place, entry.get("key", "")),
        passphrase=secrets["passphrase"],
        form=form,
        oauth=oauth,
        only_from=tuple(
            origin_of(_address_in(place, "only_from", each))
            for each in ([places] if isinstance(places, str) else places)
        ),
    )


def _require_known_keys(place: str, entry: Mapping[str, object]) -> None:
    for key, value in entry.items():
        if key not in _KEYS:
            near = key_for(key, _KEYS)
            meant = f"did you mean {near}?" if near else f"there are {', '.join(_KEYS)}"
            raise BadOption(f"{place}, {key}", "unknown key", meant)
        if not isinstance(value, _TYPES.get(key, str)):
            raise BadOption(f"{place}, {key}", "is of the wrong type", "write text in quotes")


def _address_in(place: str, key: str, address: object) -> str:
    """Return the address that a key has, in normal form; secrets go there.

    Raises:
        BadOption: it is not an address, or not protected by TLS.
    """
    try:
        return normalise(str(address))
    except BadAddress as error:
        raise BadOption(f"{place}, {key}", error.reason, error.advice) from None


def _form_in(
    place: str, entry: Mapping[str, Any], password: Secret | None, environment: Mapping[str, str]
) -> FormSignIn | None:
    """Return the form that a sign-in fills in, or None."""
    if "form" not in entry:
        return None
    fields = []
    for name, value in entry.get("form_fields", {}).items():
        secret = Secret(str(value))
        # A password in plain text is refused: everyone who sees the file could read it.
        if secret.value.startswith(SECRET_REFERENCES) or _SECRET_NAME.search(name):
            secret = read_secret(secret.value, f"{place}, form_fields, {name}", environment)
        fields.append((name, secret))
    if password is None and not fields:
        raise BadOption(f"{place}, form", "has nothing to fill in", "give user and password")
    address = _address_in(place, "form", entry["form"])
    return FormSignIn(address, entry.get("user", ""), password, tuple(fields))


def _oauth_in(
    place: str, entry: Mapping[str, Any], secrets: Mapping[str, Secret | None]
) -> OAuthSignIn | None:
    """Return how a sign-in obtains tokens, or None."""
    if "token_address" not in entry:
        for key in (*_OAUTH, "client_secret", "refresh_token"):
            if key in entry:
                raise BadOption(f"{place}, {key}", "requires token_address", "")
        return None
    if "client" not in entry:
        raise BadOption(f"{place}, client", "is missing", "give the client's name")
    if not (secrets["client_secret"] or secrets["refresh_token"] or "device_address" in entry):
        advice = "give client_secret, refresh_token or device_address"
        raise BadOption(f"{place}, token_address", "has nothing to sign in with", advice)
    keep = entry.get("keep_tokens", "file")
    if keep not in ("file", "keyring"):
        raise BadOption(f"{place}, keep_tokens", f"unknown value {keep}", "write file or keyring")
    if keep == "keyring":
        require_keyring(f"{place}, keep_tokens")
    device = entry.get("device_address", "")
    return OAuthSignIn(
        _address_in(place, "token_address", entry["token_address"]),
        entry["client"],
        secrets["client_secret"],
        secrets["refresh_token"],
        _address_in(place, "device_address", device) if device else "",
        entry.get("scope", ""),
        keep == "keyring",
    )


def _key_in(place: str, key: str) -> str:
    """Return the path of a private key, which has to be there."""
    if key and not Path(key).expanduser().is_file():
        raise BadOption(f"{place}, key", f"no such file: {key}", "check its path")
    return key
