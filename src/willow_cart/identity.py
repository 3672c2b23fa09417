"""What makes two addresses the same file's.

An address is identified by all of it; what is shown of an address, with its secrets removed, is
never a key. An address that cannot hold a secret is its own identifier. Of any other the part that
can is replaced by a hash, so that neighbours in a folder are neighbours in an index too. Only the
signature of an address that is signed again for each request is left out, because the file is the
same tomorrow.
"""

from __future__ import annotations

import hashlib
import re
from typing import NewType

from willow_cart.errors import BadOption
from willow_cart.redaction import INSIDE
from willow_cart.structs import Value

AddressId = NewType("AddressId", str)
"""Identifies an address: the address itself, or `BASE?DIGEST`; for a file inside an archive with
`#inside=PATH`."""

LedgerKey = NewType("LedgerKey", str)
"""An identifier in one ledger. The digest is salted: no list of guesses fits two ledgers."""

_DIGEST = re.compile(r"[0-9a-f]{32}")
# From here on an address may hold a secret, whatever its name (RFC 3986, 3.3 to 3.5).
_MAY_BE_SECRET = re.compile(r"[?#;]")

_SIGNATURES = frozenset(
    "signature sig sign x-sig x-signature hmac token md5 hash verify auth_key".split()
)
# AWS Signature Version 2, Cloud Storage V2 and OSS V1 signing, and canned policies of CloudFront.
_BESIDE_SIGNATURES = frozenset(
    "awsaccesskeyid googleaccessid ossaccesskeyid key-pair-id x-amz-security-token"
    " security-token".split()
)
_EXPIRIES = frozenset("expires expire exp expiry x-expires valid_until deadline".split())
# Seconds or milliseconds since 1970, or a date.
_MOMENT = re.compile(r"\d{9,13}|\d{4}-?\d\d-?\d\d(?:T|t|%20|\+).{0,24}|\d{4}-\d\d-\d\d")


class _Scheme(Value):
    """A way to sign addresses.

    Attributes:
        needs: the query parameters, in lower case, that an address so signed has.
        has: all that belong to the signature.
    """

    needs: frozenset[str]
    has: frozenset[str]


def _scheme(needs: str, has: str) -> _Scheme:
    return _Scheme(frozenset(needs.split()), frozenset(f"{needs} {has}".split()))


def _version_4(vendor: str) -> _Scheme:
    names = "algorithm credential date expires signedheaders security-token content-sha256"
    return _scheme(
        f"x-{vendor}-signature", " ".join(f"x-{vendor}-{name}" for name in names.split())
    )


_SCHEMES = (
    # AWS Signature Version 4, "Authenticating Requests: Using Query Parameters", and those like it:
    # Cloud Storage V4 signing, OSS and TOS V4.
    *map(_version_4, ("amz", "goog", "oss", "tos")),
    _scheme("x-oss-signature", "x-oss-signature-version x-oss-additional-headers"),
    # CloudFront, "Use signed URLs": with a custom policy.
    _scheme("signature policy key-pair-id", "hash-algorithm"),
    # Azure Storage, "Create a service SAS", "... an account SAS", "... a user delegation SAS".
    _scheme(
        "sig sv",
        "se st sp sr ss srt spr sip si ses sdd skoid sktid skt ske sks skv saoid suoid scid",
    ),
    # COS, "Request signature".
    _scheme(
        "q-signature",
        "q-sign-algorithm q-ak q-sign-time q-key-time q-header-list q-url-param-list"
        " x-cos-security-token",
    ),
)


# What nearly every address lacks: one name of each scheme, or the digest of an edge token.
_ANY_SIGNATURE = re.compile(
    rf"[?&](?:{'|'.join({*_SIGNATURES, *(min(each.needs) for each in _SCHEMES)})})="
    r"|(?:~|%7e)hmac(?:=|%3d)",
    re.IGNORECASE,
)


def address_id(address: str, digest: str = "") -> AddressId:
    """Return the identifier of an address in normal form.

    Args:
        address: whole, or with its secrets removed.
        digest: what `digest_of_address` gave for it when it was whole; empty for a whole one.
    """
    whole, mark, path = address.partition(INSIDE)
    digest = digest or digest_of_address(whole)
    own = f"{_base_of(whole)}?{digest}" if digest else whole
    return AddressId(f"{own}{mark}{path}")


def digest_of_address(address: str) -> str:
    """Return the digest in an address's identifier; empty for one that cannot hold a secret."""
    whole = address.partition(INSIDE)[0]
    if "@" not in whole and not _MAY_BE_SECRET.search(whole):
        return ""
    return hash_of(without_signature(whole))


def ledger_key(identifier: AddressId, salt: str) -> LedgerKey:
    """Return the key of an address in the ledger with a salt."""
    whole, mark, path = identifier.partition(INSIDE)
    base, has_digest, digest = whole.partition("?")
    if not has_digest:
        return LedgerKey(identifier)
    return LedgerKey(f"{base}?{hash_of(salt + digest)}{mark}{path}")


def read_digest(text: str) -> str:
    """Return the digest in a text.

    Raises:
        BadOption: there is none.
    """
    if not _DIGEST.fullmatch(text):
        raise BadOption(f"key {text!r:.60}", "not a key", "leave the cell empty")
    return text


def _base_of(address: str) -> str:
    """Return an address up to where secrets may begin, and without its user."""
    base = _MAY_BE_SECRET.split(address, maxsplit=1)[0]
    scheme, mark, rest = base.partition("://")
    authority, slash, path = rest.partition("/")
    return f"{scheme}{mark}{authority.rpartition('@')[2]}{slash}{path}"


def without_signature(address: str) -> str:
    """Return an address without the query parameters that sign it."""
    if not _ANY_SIGNATURE.search(address):
        return address
    base, _, query = address.partition("?")
    pieces = query.split("&")
    signing = _signing(pieces)
    kept = [piece for piece in pieces if _name_of(piece) not in signing]
    return f"{base}?{'&'.join(kept)}" if kept else base


def is_signed(address: str) -> bool:
    """Whether the query of an address has a signature."""
    return without_signature(address) != address


def _signing(pieces: list[str]) -> frozenset[str]:
    """Return the names of the parameters that belong to a signature."""
    names = frozenset(map(_name_of, pieces))
    found = [scheme.has for scheme in _SCHEMES if scheme.needs <= names]
    values = {_name_of(piece): piece.partition("=")[2] for piece in pieces}
    # A signature by any other program has its end next to it, as a time.
    ends = {name for name in names & _EXPIRIES if _MOMENT.fullmatch(values[name])}
    if ends and (signatures := names & _SIGNATURES):
        found.append(signatures | ends | names & _BESIDE_SIGNATURES)
    # The tokens of edge servers have their end and their digest in one value.
    found += [frozenset({name}) for name, value in values.items() if _is_edge_token(value)]
    return frozenset().union(*found)


def _is_edge_token(value: str) -> bool:
    text = value.replace("%3D", "=").replace("%3d", "=").replace("%7E", "~").replace("%7e", "~")
    return "exp=" in text and "~hmac=" in text


def _name_of(piece: str) -> str:
    return piece.partition("=")[0].lower()


def hash_of(text: str) -> str:
    """Return 32 hexadecimal digits of the SHA-256 of a text."""
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:32]
