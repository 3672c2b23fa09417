"""The rules of HTTP that hauling rests on."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from willow_cart.errors import ProtocolError, TooManyRedirects
from willow_cart.model import Validators
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.http.http_rules import ContentRange

NOON = "Sun, 01 Jun 2031 12:00:00 GMT"
LATER = "Sun, 01 Jun 2031 12:05:00 GMT"


@pytest.mark.parametrize(
    ("validators", "joiner"),
    [
        (Validators('"v1"'), '"v1"'),
        (Validators('W/"v1"'), None),
        (Validators('W/"v1"', NOON, LATER), None),
        (Validators(None, NOON, LATER), NOON),
        (Validators(None, NOON, NOON), None),
        (Validators(None, NOON, None), None),
        (Validators(None, "yesterday", LATER), None),
        (Validators("v1"), None),
        (Validators(), None),
    ],
)
def test_only_a_strong_validator_joins_parts(validators: Validators, joiner: str | None) -> None:
    assert rules.joining_validator(validators) == joiner


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("bytes 5-9/10", ContentRange(5, 9, 10)),
        ("Bytes  5-9/*", ContentRange(5, 9, None)),
        ("bytes */10", ContentRange(None, None, 10)),
        ("bytes 9-5/10", None),
        ("bytes 5-10/10", None),
        ("bytes */*", None),
        ("items 5-9/10", None),
        ("bytes 5-/10", None),
        ("", None),
        (None, None),
    ],
)
def test_a_content_range_is_read_strictly(text: str | None, expected: ContentRange | None) -> None:
    assert rules.parse_content_range(text) == expected


@pytest.mark.parametrize(
    ("text", "length"),
    [
        ("10", 10),
        ("10, 10", 10),
        ("10, 11", None),
        ("-1", None),
        ("ten", None),
        ("²", None),
        (None, None),
    ],
)
def test_a_length_is_a_length_or_none(text: str | None, length: int | None) -> None:
    assert rules.parse_content_length(text) == length


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("120", 120.0),
        (LATER, 300.0),
        ("Sat, 31 May 2031 12:00:00 GMT", 0.0),
        ("soon", None),
        (None, None),
    ],
)
def test_retry_after_has_two_forms(text: str | None, seconds: float | None) -> None:
    assert rules.parse_retry_after(text, None, datetime(2031, 6, 1, 12, tzinfo=UTC)) == seconds


@pytest.mark.parametrize(
    "text", [NOON, "Sunday, 01-Jun-31 12:00:00 GMT", "Sun Jun  1 12:00:00 2031"]
)
def test_dates_come_in_three_forms(text: str) -> None:
    assert rules.parse_date(text) == datetime(2031, 6, 1, 12, tzinfo=UTC)


def test_conditional_fields_ask_by_all_that_is_known() -> None:
    assert rules.conditional_fields(Validators('W/"v1"', NOON)) == {
        "If-None-Match": 'W/"v1"',
        "If-Modified-Since": NOON,
    }
    assert rules.conditional_fields(Validators()) == {}


@pytest.mark.parametrize(
    ("location", "following"),
    [
        ("/b", "http://h.example/b"),
        ("b?x=1#top", "http://h.example/a/b?x=1"),
        ("//other.example/b", "http://other.example/b"),
        ("https://h.example/ö", "https://h.example/%C3%B6"),
        ("/\xc3\xb6", "http://h.example/%C3%B6"),
    ],
)
def test_redirects_lead_where_browsers_go(location: str, following: str) -> None:
    start = "http://h.example/a/x"
    assert rules.next_address(start, location, [start]) == following


@pytest.mark.parametrize(
    "location", [None, "", "file:///etc/passwd", "mailto:ida@h.example", "http://["]
)
def test_redirects_that_lead_away_from_the_web_are_not_followed(location: str | None) -> None:
    with pytest.raises(ProtocolError):
        rules.next_address("http://h.example/", location, ["http://h.example/"])


def test_redirects_end() -> None:
    seen = [f"http://h.example/{n}" for n in range(rules.MAX_REDIRECTS + 1)]
    with pytest.raises(TooManyRedirects, match="more than"):
        rules.next_address(seen[-1], "/next", seen)
    with pytest.raises(TooManyRedirects, match="loop"):
        rules.next_address(seen[1], "/0", seen[:2])


@pytest.mark.parametrize(
    ("disposition", "name"),
    [
        (None, ""),
        ("attachment", ""),
        ("attachment; filename=level.csv", "level.csv"),
        ('Attachment; FileName="May \\"wet\\" levels.csv"', 'May "wet" levels.csv'),
        (
            "attachment; filename=\"EURO.csv\"; filename*=utf-8''%e2%82%ac%20rates.csv",
            "€ rates.csv",
        ),
        ("attachment; filename*=iso-8859-1'en'%A3%20rates.csv", "£ rates.csv"),
        ("attachment; filename*=utf-8''%ff.csv; filename=x.csv", "x.csv"),
        ("attachment; filename*=koi8-r''%C1.csv", ""),
        ('attachment; filename="../../etc/passwd"', "passwd"),
        ('inline; filename="C:\\\\data\\\\level.csv"', "level.csv"),
        ('attachment; filename="Wasserst\xc3\xa4nde.csv"', "Wasserstände.csv"),
        ('attachment; filename="caf\xe9.csv"', "café.csv"),
    ],
)
def test_the_name_that_a_server_gives(disposition: str | None, name: str) -> None:
    """RFC 6266, 4.3 and appendix D; RFC 8187, 3.2."""
    assert rules.file_name_in(disposition) == name
