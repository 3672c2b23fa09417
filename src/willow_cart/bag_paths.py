"""Paths as the files of a bag have them (RFC 8493, 2.1.3)."""

from __future__ import annotations

import re

# Only these three are encoded, which would tear a line or be taken for a code.
_CODES = {"%": "%25", "\n": "%0A", "\r": "%0D"}
_MEANT = {code: character for character, code in _CODES.items()}


def encode_path(path: str) -> str:
    """Return a path as a bag's manifest and its list of what to fetch have it."""
    return re.sub("[%\n\r]", lambda character: _CODES[character[0]], path)


def decode_path(path: str) -> str:
    """Return the path that is meant; small letters in a code count too."""
    return re.sub("%(25|0[AaDd])", lambda code: _MEANT[code[0].upper()], path)
