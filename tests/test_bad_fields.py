"""One bad field in a server's text costs its value: not the file, and never the listing."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable
from datetime import UTC, datetime
from html import escape
from pathlib import Path
from typing import Any
from urllib.parse import unquote
from xml.sax.saxutils import quoteattr

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import files_in, run
from tests.support.raw_server import RawServer, answer
from willow_cart.errors import WillowCartError
from willow_cart.model import Metadata
from willow_cart.outside_values import moment_at, read_iso, read_json, with_zone
from willow_cart.protocols.bucket import read_page as read_bucket_page
from willow_cart.protocols.container import read_page as read_container_page
from willow_cart.protocols.fake import FakeAccess
from willow_cart.protocols.ftp.ftp_listing import (
    NotUnderstoodLine,
    parse_fact_line,
    parse_list_line,
    parse_timestamp,
)
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.web_delivery import composite_of, promised_by_server, promised_by_store
from willow_cart.protocols.webdav import WebDav
from willow_cart.sign_in.cookie_file import ChainCookies
from willow_cart.sign_in.oauth import Token
from willow_cart.sources.document_reader import DocumentReader
from willow_cart.sources.listing import Kind, Looking

BASE = "http://h.example/x/"
NOW = datetime(2031, 6, 1, tzinfo=UTC)
ODD = st.one_of(
    st.sampled_from(
        [
            "",
            " ",
            "0",
            "-1",
            "-0",
            "+5",
            "1e999",
            "NaN",
            "Infinity",
            "9" * 25,
            "9" * 5000,
            "-" + "9" * 400,
            "\u0663\u0664",
            "\uff11\uff12",
            "Fri, 31 Dec 99999999999 23:59:59 GMT",
            "Fri, 31 Dec 9999 23:59:59 -1200",
            "Mon, 01 Jan 0001 00:00:00 +1400",
            "0001-01-01T00:00:00+14:00",
            "9999-12-31T23:59:59-12:00",
            "2031-02-30",
            "2031-05-01T06:00:00",
            "99999999999-01-01",
            "2031-05-01T06:00:00+99:99",
            "00000000000000",
            "99999999999999",
            "\x00",
            "é\u202e",
            "//[",
            "http://[",
            "http://h:99999/",
            "javascript:x",
            "\u0001",
            "%zz",
            "sha256:zz",
            "==",
            ":::",
            '"',
            "<",
            "=:AAA=:",
            "W/",
        ]
    ),
    st.text(max_size=20),
    st.integers().map(str),
    st.datetimes().map(datetime.isoformat),
)


def xml(text: str) -> str:
    """A text as XML can have it."""
    return escape("".join(c for c in text if c >= " " and c not in "\ufffe\uffff"))


def attribute(text: str) -> str:
    return quoteattr("".join(c for c in text if c >= " " and c not in "\ufffe\uffff"))


def json_folder(odd: str) -> bytes:
    entries: list[dict[str, object]] = [
        {"name": "a.csv", "type": "file", "size": 5, "mtime": "Sun, 01 Jun 2031 06:00:00 GMT"},
        {"name": "odd.csv", "type": "file", "size": odd, "mtime": odd},
        {"name": "z.csv", "type": "file", "size": 5, "mtime": "Sun, 01 Jun 2031 06:00:00 GMT"},
    ]
    return json.dumps(entries).encode("utf-8", "replace")


def xml_folder(odd: str) -> bytes:
    bad = f"<file size={attribute(odd)} mtime={attribute(odd)}>odd.csv</file>"
    good = '<file size="5" mtime="2031-06-01T06:00:00Z">{}</file>'
    return f"<list>{good.format('a.csv')}{bad}{good.format('z.csv')}</list>".encode()


def feed(odd: str) -> bytes:
    good = (
        "<item><pubDate>Sun, 01 Jun 2031 06:00:00 GMT</pubDate>"
        '<enclosure url="{}" length="5"/></item>'
    )
    bad = (
        f"<item><pubDate>{xml(odd)}</pubDate><updated>{xml(odd)}</updated>"
        f'<enclosure url="odd.csv" length={attribute(odd)}/>'
        f"<enclosure url={attribute(odd)}/></item>"
        f"<link xmlns='http://www.w3.org/2005/Atom' rel='next' href={attribute(odd)}/>"
    )
    return (
        f"<rss><channel>{good.format('a.csv')}{bad}{good.format('z.csv')}</channel></rss>".encode()
    )


def sitemap(odd: str) -> bytes:
    good = "<url><loc>{}</loc><lastmod>2031-06-01T06:00:00Z</lastmod></url>"
    bad = (
        f"<url><loc>{BASE}odd.csv</loc><lastmod>{xml(odd)}</lastmod></url>"
        f"<url><loc>{xml(odd)}</loc></url>"
    )
    a, z = good.format(f"{BASE}a.csv"), good.format(f"{BASE}z.csv")
    return f"<urlset>{a}{bad}{z}</urlset>".encode()


def index(odd: str) -> bytes:
    good = '<tr><td><a href="{0}">{0}</a><td>2031-06-01 06:00<td>5</tr>'
    bad = (
        f'<tr><td><a href="odd.csv">odd.csv</a><td>{xml(odd)}<td>{xml(odd)}</tr>'
        f"<tr><td><a href={attribute(odd)}>x</a></tr>"
    )
    rows = f"{good.format('a.csv')}{bad}{good.format('z.csv')}"
    return f"<html><h1>Index of /x/</h1><table>{rows}</table></html>".encode()


def package(odd: str) -> bytes:
    number = read_json(odd) if odd.isascii() and odd.isdigit() and odd[:1] != "0" else odd
    bad = {
        "path": "odd.csv",
        "bytes": number,
        "hash": odd,
        "title": odd,
        "mediatype": odd,
        "licenses": odd,
        "sources": number,
    }
    good = {"bytes": 5}
    resources = [{"path": "a.csv", **good}, bad, {"path": odd}, {"path": "z.csv", **good}]
    return json.dumps({"resources": resources}).encode("utf-8", "replace")


def items(odd: str) -> bytes:
    good: dict[str, object] = {"type": "Feature", "stac_version": "1.0.0", "properties": {}}
    bad = {
        **good,
        "bbox": [odd, 10**400, -1, 2],
        "properties": {"datetime": odd, "created": odd},
        "assets": {"o": {"href": "odd.csv", "file:size": odd, "file:checksum": odd}},
        "links": [{"rel": "next", "href": odd}],
    }
    features = [
        {**good, "assets": {"a": {"href": "a.csv", "file:size": 5}}},
        bad,
        {**good, "assets": {"z": {"href": "z.csv", "file:size": 5}}},
    ]
    return json.dumps({"type": "FeatureCollection", "features": features}).encode(
        "utf-8", "replace"
    )


DOCUMENTS: dict[str, tuple[Callable[[str], bytes], str]] = {
    "a JSON index": (json_folder, "application/json"),
    "an XML index": (xml_folder, "application/xml"),
    "an index page": (index, "text/html"),
    "a feed": (feed, "application/rss+xml"),
    "a sitemap": (sitemap, "application/xml"),
    "a data package": (package, "application/ld+json"),
    "a collection of items": (items, "application/geo+json"),
}


@pytest.mark.parametrize("kind", DOCUMENTS)
@given(odd=ODD)
def test_a_listing_keeps_what_is_beside_a_bad_field(kind: str, odd: str) -> None:
    make, media_type = DOCUMENTS[kind]
    reader = DocumentReader(FakeAccess({}), Looking())
    listing = reader.understand(make(odd), Metadata(BASE, media_type=media_type), None, "x")
    assert listing is not None
    names = {unquote(each.address.rpartition("/")[2]): each for each in listing.offers}
    assert {"a.csv", "odd.csv", "z.csv"} <= names.keys()
    if listing.kind is not Kind.SITEMAP:
        assert names["a.csv"].size == names["z.csv"].size == 5
    for offer in listing.offers:
        assert offer.modified is None or offer.modified.astimezone(UTC) < datetime.max.replace(
            tzinfo=UTC
        )
        assert offer.modified is None or abs(offer.modified - NOW).days < 4_000_000


@given(odd=ODD)
def test_a_store_s_page_keeps_what_is_beside_a_bad_field(odd: str) -> None:
    good = "<Contents><Key>{}</Key><Size>5</Size><LastModified>2031-06-01T06:00:00Z</LastModified></Contents>"  # noqa: E501
    bad = (
        f"<Contents><Key>odd.csv</Key><Size>{xml(odd)}</Size>"
        f"<LastModified>{xml(odd)}</LastModified><ETag>{xml(odd)}</ETag></Contents>"
        f"<Contents><Key>{xml(odd)}</Key></Contents><CommonPrefixes><Prefix>{xml(odd)}</Prefix>"
        "</CommonPrefixes>"
    )
    text = f"<ListBucketResult>{good.format('a.csv')}{bad}{good.format('z.csv')}</ListBucketResult>"
    page = read_bucket_page(text.encode(), "s3://b/")
    by_name = {each.address: each for each in page.entries}
    assert {by_name["s3://b/a.csv"].size, by_name["s3://b/z.csv"].size} == {5}
    assert all(e.modified is None or e.modified.tzinfo for e in page.entries)

    blob = (
        "<Blob><Name>{}</Name><Properties><Content-Length>{}</Content-Length><Last-Modified>{}"
        "</Last-Modified><Content-MD5>{}</Content-MD5></Properties></Blob>"
    )
    usual = ("5", "Sun, 01 Jun 2031 06:00:00 GMT", "")
    blobs = [
        blob.format("a.csv", *usual),
        blob.format("odd.csv", *[xml(odd)] * 3),
        f"<Blob><Name Encoded='true'>{xml(odd)}</Name></Blob>",
        blob.format("z.csv", *usual),
    ]
    listing = f"<EnumerationResults><Blobs>{''.join(blobs)}</Blobs></EnumerationResults>"
    found = read_container_page(listing.encode(), "http://h/c/")
    assert {"http://h/c/a.csv", "http://h/c/z.csv"} <= {each.address for each in found.entries}


@given(odd=ODD)
def test_webdav_keeps_what_is_beside_a_bad_field(odd: str) -> None:
    response = (
        "<D:response><D:href>{}</D:href><D:propstat><D:status>HTTP/1.1 200 OK</D:status><D:prop>"
        "<D:getcontentlength>{}</D:getcontentlength><D:getlastmodified>{}</D:getlastmodified>"
        "</D:prop></D:propstat></D:response>"
    )
    usual = ("5", "Sun, 01 Jun 2031 06:00:00 GMT")
    parts = [
        response.format("/x/a.csv", *usual),
        response.format("/x/odd.csv", xml(odd), xml(odd)),
        response.format(xml(odd), *usual),
        response.format("/x/z.csv", *usual),
    ]
    text = f"<D:multistatus xmlns:D='DAV:'>{''.join(parts)}</D:multistatus>"

    class Folder(FakeAccess):
        def has_properties(self, address: str) -> bool:
            return True

        def properties(self, address: str, depth: int) -> tuple[str, bytes]:
            return address, text.encode()

    found = {each.address for each in WebDav(Folder({})).entries(BASE).entries}
    assert {f"{BASE}a.csv", f"{BASE}odd.csv", f"{BASE}z.csv"} <= found


@given(odd=ODD, other=ODD)
def test_lines_and_fields_have_a_value_or_none(odd: str, other: str) -> None:
    """Whatever a field holds, reading it gives a value, None, or an error of ours."""
    line = f"-rw-r--r-- 1 ida ida {odd} Jun  1 06:00 level.csv"
    texts = [
        odd,
        line,
        f"drwxr-xr-x 2 a b {other} {odd} x",
        f"01-01-{odd}  06:00AM  {other} x.csv",
        f"+m{odd},s{other},r,\tx.csv",
        f"type=file;size={odd};modify={other}; x.csv",
    ]
    for text in texts:
        for read in (lambda text: parse_list_line(text, NOW), parse_fact_line):
            with contextlib.suppress(NotUnderstoodLine, WillowCartError):
                read(text)
    parse_timestamp(odd)
    fields = dict.fromkeys(
        (
            "ETag",
            "Digest",
            "Repr-Digest",
            "Content-MD5",
            "x-goog-hash",
            "Content-Range",
            "x-amz-checksum-sha256",
            "x-amz-checksum-crc32",
            "Content-Digest",
        ),
        odd,
    )
    promised_by_server(fields, whole=True)
    promised_by_store(fields)
    composite_of(fields)
    moment = rules.parse_date(odd)
    assert moment is None or (moment.tzinfo is UTC and 1 < moment.year < 9999)
    wait = rules.parse_retry_after(odd, other, NOW)
    assert wait is None or 0 <= wait < float("inf")
    rules.parse_content_length(odd)
    rules.parse_content_range(f"bytes {odd}-{other}/{odd}")
    rules.file_name_in(f"attachment; filename={odd}; filename*={other}")
    rules.linked(f"<{odd}>; rel={other}, <x>; rel=next", "next")
    rules.parse_content_type(odd)
    cookies = ChainCookies()
    cookies.take(BASE, [f"a=b; Expires={odd}; Max-Age={other}; Path={odd}", odd])
    cookies.field_for(BASE)
    Token.from_text(odd)
    Token.from_text(json.dumps({"access": "a", "expires": odd, "refresh": other}))
    assert read_iso(odd) is None or with_zone(NOW) == NOW
    with contextlib.suppress(ValueError):
        moment_at(float(odd))


FIELDS = (
    "Last-Modified",
    "ETag",
    "Date",
    "Expires",
    "Set-Cookie",
    "Content-MD5",
    "Digest",
    "Content-Disposition",
    "Link",
    "Accept-Ranges",
    "Content-Encoding",
    "Vary",
    "Age",
    "Retry-After",
    "Content-Location",
    "X-Goog-Hash",
)


def test_a_file_arrives_whatever_a_field_of_its_answer_says(tmp_path: Path) -> None:
    """The program, against a server that sends one odd field with each file."""
    values = [
        "Fri, 31 Dec 99999999999 23:59:59 GMT",
        "9" * 400,
        "-1",
        "",
        "é\xff",
        "a=b; Max-Age=" + "9" * 99,
        "Mon, 01 Jan 0001 00:00:00 +1400",
        "=?=",
        '"',
        "attachment; filename*=utf-8''%ff",
    ]
    cases = [(name, value) for name in FIELDS for value in values]
    with RawServer(
        lambda request: answer(
            f"{request.target}\n".encode(),
            **dict[str, Any]([cases[int(request.target[1:-4])]]),
        )
    ) as server:
        lines = [f"{server.base}/{number}.csv" for number in range(len(cases))]
        (tmp_path / "l.txt").write_text("\n".join(lines))
        done = run("haul", "l.txt", "--into", "d", cwd=tmp_path)
        failed = [
            cases[int(line.partition(".csv")[0].rpartition("/")[2])]
            for line in done.err.splitlines()
            if "failed" in line and ".csv" in line
        ]
        # Only a coding that is not there is a reason not to file what came.
        assert {name for name, _ in failed} <= {"Content-Encoding"}, done.err
        assert "internal error" not in done.err
        assert len(files_in(tmp_path / "d")) >= len(cases) - len(failed)
