"""Paths in the manifests of a bag (RFC 8493, 2.1.3)."""

from __future__ import annotations

import re

# Only these three are encoded, which would tear a line or be taken for a code.
_CODES = {"%": "%25", "\n": "%0A", "\r": "%0D"}
_MEANT = {code: character for character, code in _CODES.items()}


def encode_path(path: str) -> str:
    """Encode a path for a bag's manifest or its fetch.txt."""
    return re.sub("[%\n\r]", lambda character: _CODES[character[0]], path)


def decode_path(path: str) -> str:
    """Decode a path; the hexadecimal digits may be in either case."""
    return re.sub("%(25|0[AaDd])", lambda code: _MEANT[code[0].upper()], path)
