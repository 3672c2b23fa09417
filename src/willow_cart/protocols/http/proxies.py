"""Select the proxy for a server by the usual environment variables."""

from __future__ import annotations

import re
from collections.abc import Mapping
from ipaddress import ip_address
from urllib.parse import urlsplit

from willow_cart.errors import BadOption

_KNOWN = frozenset({"http", "https"})


def proxy_for(origin: str, environment: Mapping[str, str]) -> str | None:
    """Return the proxy for an origin; None for a direct connection.

    `http_proxy`, `https_proxy` and `all_proxy` name proxies, in either case of letters, but for
    `HTTP_PROXY`: a web server that runs this program would set that to a field of a request.
    `no_proxy` names hosts to be asked directly, with commas between them: `*`, or a host, which
    stands for those below it too, with a port if only that is meant. This machine itself is always
    asked directly: to a proxy it is another.

    Args:
        origin: scheme, host and port.
        environment: variables by name.

    Raises:
        BadOption: the variable names no proxy, or one with an unsupported scheme.
    """
    parts = urlsplit(origin)
    host = (parts.hostname or "").lower()
    port = parts.port or (443 if parts.scheme == "https" else 80)
    if is_this_machine(host) or _is_excepted(host, port, _value(environment, "no_proxy")):
        return None
    specific = f"{parts.scheme}_proxy"
    if parts.scheme == "http":
        proxy = environment.get(specific) or _value(environment, "all_proxy")
    else:
        proxy = _value(environment, specific) or _value(environment, "all_proxy")
    if not proxy:
        return None
    if "://" not in proxy:
        proxy = f"http://{proxy}"
    try:
        read = urlsplit(proxy)
        is_address = bool(read.hostname) and read.port != 0 and proxy.isprintable()
    except ValueError:
        is_address = False
    if not is_address or " " in proxy:
        raise BadOption(specific, "does not name a proxy", "set it to http://HOST:PORT")
    scheme = read.scheme.lower()
    if scheme not in _KNOWN:
        raise BadOption(specific, f"unsupported proxy scheme {scheme}://", "use an http proxy")
    return proxy


def _value(environment: Mapping[str, str], name: str) -> str:
    return environment.get(name) or environment.get(name.upper()) or ""


def is_this_machine(host: str) -> bool:
    """Whether a host is the loopback (RFC 1122, 3.2.1.3; RFC 4291, 2.5.3; RFC 6761, 6.3)."""
    if host == "localhost" or host.endswith(".localhost"):
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def _is_excepted(host: str, port: int, exceptions: str) -> bool:
    for written in exceptions.split(","):
        exception = written.strip().lower()
        name, colon, only = exception.rpartition(":")
        if colon and re.fullmatch(r"\d{1,5}", only) and not name.endswith(":"):
            if int(only) != port:
                continue
            exception = name
        exception = exception.strip("[]").removeprefix("*").lstrip(".")
        if written.strip() == "*" or (
            exception and (host == exception or host.endswith(f".{exception}"))
        ):
            return True
    return False
