"""Sign requests to blob stores with an account key ("Shared Key", version 2021-12-02)."""

from __future__ import annotations

import base64
import hmac
from collections.abc import Mapping
from datetime import datetime
from email.utils import format_datetime
from urllib.parse import parse_qsl, urlsplit

from willow_cart.errors import BadOption

VERSION = "2021-12-02"
"""The version of the service's rules that is requested."""

# The fields that a signature covers, in the order of the rules; a GET has nothing in the others.
_COVERED = (
    "Content-Encoding", "Content-Language", "Content-Length", "Content-MD5", "Content-Type", "Date",
    "If-Modified-Since", "If-Match", "If-None-Match", "If-Unmodified-Since", "Range",
)  # fmt: skip


def sign_for_account(
    account: str, key: str, method: str, address: str, *, sent: Mapping[str, str], now: datetime
) -> dict[str, str]:
    """Return the header fields that authorise a request.

    Args:
        account: its name.
        key: its key, in base 64.
        method: of the request.
        address: that is asked.
        sent: the fields that the request has already.
        now: the time, in UTC.

    Raises:
        BadOption: the key is invalid.
    """
    own = {"x-ms-date": format_datetime(now, usegmt=True), "x-ms-version": VERSION}
    parts = urlsplit(address)
    resource = f"/{account}{parts.path}"
    for name, value in sorted(parse_qsl(parts.query, keep_blank_values=True)):
        resource += f"\n{name.lower()}:{value}"
    lines = [method, *(sent.get(name, "") for name in _COVERED)]
    lines += [f"{name}:{value}" for name, value in sorted(own.items())]
    try:
        secret = base64.b64decode(key, validate=True)
    except ValueError:
        raise BadOption("--account-key", "not an account key", "copy all of it") from None
    text = "\n".join([*lines, resource])
    signature = base64.b64encode(hmac.digest(secret, text.encode(), "sha256")).decode()
    return own | {"Authorization": f"SharedKey {account}:{signature}"}
