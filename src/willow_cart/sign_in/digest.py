"""Digest access authentication (RFC 7616): the response to a server's challenge."""

from __future__ import annotations

import hashlib
from collections.abc import Callable

from willow_cart.structs import Record

# RFC 7616, 3.3 and 6.1; MD5 is there because servers still ask for nothing better.
_ALGORITHMS = {"md5": "md5", "sha-256": "sha256", "sha-512-256": "sha512_256"}


class DigestChallenge(Record):
    """A server's challenge, and how often it was answered.

    Attributes:
        realm, nonce, opaque, algorithm: as the server sent them.
        qop: whether the protection `auth` is offered; without it the form of RFC 2069 is used.
        count: how many answers were given with this nonce.
    """

    realm: str
    nonce: str
    opaque: str | None
    algorithm: str
    qop: bool
    count: int = 0


def read_digest_challenge(parameters: dict[str, str]) -> DigestChallenge | None:
    """Parse the parameters of a challenge; None if it cannot be answered."""
    algorithm = parameters.get("algorithm", "MD5")
    offered = parameters.get("qop")
    protections = {each.strip().lower() for each in offered.split(",")} if offered else set()
    known = algorithm.lower().removesuffix("-sess") in _ALGORITHMS
    if not known or "nonce" not in parameters or (protections and "auth" not in protections):
        return None
    return DigestChallenge(
        parameters.get("realm", ""),
        parameters["nonce"],
        parameters.get("opaque"),
        algorithm,
        bool(protections),
    )


def answer_digest(
    challenge: DigestChallenge,
    user: str,
    password: str,
    method: str,
    target: str,
    *,
    make_nonce: Callable[[], str],
) -> str:
    """Return the Authorization field for a challenge (3.4).

    Args:
        challenge: the server's challenge; its count is incremented.
        user: who is asking.
        password: theirs.
        target: of the request, path and query.
        make_nonce: makes the client's own nonce.
    """
    challenge.count += 1
    own, count = make_nonce(), f"{challenge.count:08x}"
    name = challenge.algorithm.lower()
    hashed = _hasher(_ALGORITHMS[name.removesuffix("-sess")])

    secret = hashed(f"{user}:{challenge.realm}:{password}")
    if name.endswith("-sess"):
        secret = hashed(f"{secret}:{challenge.nonce}:{own}")
    request = hashed(f"{method}:{target}")
    if challenge.qop:
        response = hashed(f"{secret}:{challenge.nonce}:{count}:{own}:auth:{request}")
    else:
        response = hashed(f"{secret}:{challenge.nonce}:{request}")

    fields = [
        f"username={_quoted(user)}",
        f"realm={_quoted(challenge.realm)}",
        f"nonce={_quoted(challenge.nonce)}",
        f"uri={_quoted(target)}",
        f'response="{response}"',
        f"algorithm={challenge.algorithm}",
    ]
    if challenge.opaque is not None:
        fields.append(f"opaque={_quoted(challenge.opaque)}")
    if challenge.qop:
        fields += ["qop=auth", f"nc={count}", f'cnonce="{own}"']
    return f"Digest {', '.join(fields)}"


def _hasher(algorithm: str) -> Callable[[str], str]:
    return lambda text: hashlib.new(algorithm, text.encode(), usedforsecurity=False).hexdigest()


def _quoted(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'
