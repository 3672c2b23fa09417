"""Answers with a part of a file (RFC 9110, 14 and 15.3.7): whether it is the one requested."""

from __future__ import annotations

from dataclasses import replace

from willow_cart.model import Metadata, Validators
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.http.http_connection import Answer


def part_from(
    response: Answer, facts: Metadata, start: int, end: int | None, validators: Validators | None
) -> Metadata | None:
    """Return the metadata of the complete representation.

    None unless a 206 is exactly the part that was requested.
    """
    content_range = rules.parse_content_range(response.fields.get("Content-Range"))
    if content_range is None or content_range.first != start or content_range.length is None:
        return None
    last = (content_range.length if end is None else end) - 1
    if content_range.last != last:
        return None
    if facts.length not in (None, last + 1 - start):
        return None
    # A server that ignores If-Range shows itself by other marks (RFC 9110, 13.1.5, 15.3.7).
    if validators is not None and rules.contradict(facts.validators, validators):
        return None
    return replace(facts, length=content_range.length, validators=validators or facts.validators)


def is_complete(response: Answer, start: int, validators: Validators | None) -> bool:
    """Whether a 416 means that the file is complete: same version, and this length.

    A server that found another version would have sent it whole (RFC 9110, 13.1.5, 15.5.17).
    """
    content_range = rules.parse_content_range(response.fields.get("Content-Range"))
    return validators is not None and content_range is not None and content_range.length == start
