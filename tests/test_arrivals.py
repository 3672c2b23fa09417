"""What arrives is what was sent, and states it: error documents, two lengths, sizes, times."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from email.utils import format_datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import files_in, run
from willow_cart.checks.soft_failures import looks_like_page, stands_for_error
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.kinds import _BEGINNINGS, begins_as_named

LEVELS = b"day,level\n2031-05-01,0.42\n"
CHANGED = datetime(2031, 4, 3, 6, 30, tzinfo=UTC)


@pytest.mark.parametrize(
    ("name", "content", "instead"),
    [
        ("a.csv", b'{"error": "no such series"}', "a JSON document"),
        ("a.csv", '{"error": "no such series"}'.encode("utf-16"), "a JSON document"),
        ("a.tsv", b'[{"error": 1}]', "a JSON document"),
        (
            "a.csv",
            b"<?xml version='1.0'?><Error><Code>AccessDenied</Code></Error>",
            "an error mess",
        ),
        ("a.xml", b"<Error><Code>AccessDenied</Code></Error>", "an error message in XML"),
        ("a.csv", b"<ServiceException>no</ServiceException>", "an XML document"),
        ("a.json", b"<?xml version='1.0'?><report/>", "an XML document"),
        ("a.zip", b'{"message": "not found"}', "a JSON document"),
        ("a.zip", b"<report>no</report>", "an XML document"),
        ("a.csv", b'ERROR: relation "levels" does not exist\n', "a message"),
        ("a.csv", b"Access denied\n", "a message"),
        ("a.png", b"Not found", "a message"),
        ("a.zip", b"", "an empty answer"),
        ("a.parquet", b"", "an empty answer"),
        ("a.csv", b"", ""),
        ("a.csv", LEVELS, ""),
        ("a.csv", b"error,count\nreset,3\n", ""),
        ("a.csv", b"Not found,3\nfound,4\n", ""),
        ("a.txt", b"ERROR: the log of the day\n", ""),
        ("a.log", b"<start> ERROR\n", ""),
        ("a.json", b'{"error": "is what the study counts"}', ""),
        ("a.xml", b"<?xml version='1.0'?><levels/>", ""),
        ("a.zip", b"PK\x05\x06" + bytes(18), ""),
        ("a.jpg", b"\x89PNG\r\n\x1a\n", ""),
        ("a.xlsx", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", ""),
        ("no extension", b'{"error": 1}', ""),
        ("a.csv", b'{"\xfb\x93\x00 that is no text', ""),
        ("a.csv", b'{"\xfb\x93 nor is that', ""),
    ],
)
def test_error_documents_are_told_from_data(name: str, content: bytes, instead: str) -> None:
    found = stands_for_error(name, content, is_all=True)
    assert found.startswith(instead) if instead else not found


@given(st.sampled_from(sorted(_BEGINNINGS)), st.binary(max_size=2000))
def test_a_file_that_begins_as_its_name_says_is_taken(extension: str, rest: bytes) -> None:
    for beginning in _BEGINNINGS[extension]:
        assert begins_as_named(f"x.{extension}", beginning + rest)
        assert not stands_for_error(f"x.{extension}", beginning + rest, is_all=True)


@pytest.mark.parametrize("charset", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be"])
def test_a_page_is_known_in_every_form_of_unicode(charset: str) -> None:
    assert looks_like_page("<!DOCTYPE html><title>Sign in</title>".encode(charset))


def test_what_comes_instead_of_a_file_is_refused_and_the_rest_comes(
    tmp_path: Path, place: StandIn
) -> None:
    sent = {
        "a.csv": b'{"error": "no such series"}',
        "b.zip": b"",
        "c.csv": "<!DOCTYPE html><title>Busy</title>".encode("utf-16"),
        "d.csv": LEVELS,
    }

    def in_bytes(content: bytes) -> Exhibit:
        def script(handler: StandInHandler) -> None:
            handler.start(200, {"Content-Length": str(len(content))})
            for at in range(len(content)):
                handler.wfile.write(content[at : at + 1])
                handler.wfile.flush()

        return Exhibit(script=script)

    place.exhibits.update({name: in_bytes(content) for name, content in sent.items()})
    (tmp_path / "list.txt").write_text("".join(f"{place.base}/{name}\n" for name in sent))
    outcome = run("haul", "list.txt", "--into", "x", cwd=tmp_path)
    assert outcome.code == 4
    assert "the server sent a JSON document instead of the file" in outcome.err
    assert "the server sent an empty answer instead of the file" in outcome.err
    assert 'the server sent a page, "Busy"' in outcome.err
    assert files_in(tmp_path / "x") == {"d.csv": LEVELS}
    run("haul", "list.txt", "--into", "x", "--accept-anything", cwd=tmp_path)
    assert files_in(tmp_path / "x") == sent


@pytest.mark.parametrize("always", [False, True])
def test_one_version_with_two_lengths_is_never_filed(
    tmp_path: Path, place: StandIn, always: bool
) -> None:
    content = bytes(range(256)) * 1000
    asked: list[str | None] = []

    def script(handler: StandInHandler) -> None:
        asked.append(handler.headers.get("Range"))
        if asked[-1] is None and (always or len(asked) == 1):
            handler.start(200, {"Content-Length": str(len(content)), "ETag": '"1"'})
            handler.wfile.write(content[:100_000])
            handler.cut()
        elif asked[-1] is not None:
            short = content[:200_000]
            handler.start(200, {"Content-Length": str(len(short)), "ETag": '"1"'})
            handler.wfile.write(short)
        else:
            handler.serve(Exhibit(content, '"1"'))

    place.exhibits["x.bin"] = Exhibit(script=script)
    haul = ["haul", f"{place.base}/x.bin", "--into", "x", "--pause", "0.01"]
    outcome = run(*haul, cwd=tmp_path)
    if always:
        assert outcome.code == 1
        assert "the server sends different lengths for one version" in outcome.err
        assert files_in(tmp_path / "x") == {}
    else:
        assert outcome.code == 0
        assert files_in(tmp_path / "x") == {"x.bin": content}


def test_another_size_than_was_listed_is_told_and_kept_in_the_ledger(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["x.csv"] = Exhibit(LEVELS)
    (tmp_path / "cart.csv").write_text(f"take,size,url\nyes,999,{place.base}/x.csv\n")
    outcome = run("haul", "cart.csv", "--into", "x", cwd=tmp_path)
    assert outcome.code == 4
    told = f"it has {len(LEVELS)} bytes, the listing said 999"
    assert f"x.csv arrived, but {told}" in outcome.err
    assert run("receipt", "x", "--json", cwd=tmp_path).json()["files"][0]["reason"] == told
    assert told in run("receipt", "x", cwd=tmp_path).out


def test_files_have_the_times_of_their_places(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(LEVELS, modified=CHANGED.timestamp())
    place.exhibits["b.csv"] = Exhibit(LEVELS + b"2031-05-02,0.4\n", modified=None)
    local = tmp_path / "local"
    local.mkdir()
    (local / "c.csv").write_bytes(LEVELS + b"2031-05-03,0.4\n")
    os.utime(local / "c.csv", (CHANGED.timestamp(),) * 2)
    (tmp_path / "cart.csv").write_text(
        f"take,modified,url\nyes,,{place.base}/a.csv\n"
        f"yes,2031-04-03T06:30Z,{place.base}/b.csv\nyes,,{(local / 'c.csv').as_uri()}\n"
    )
    assert run("haul", "cart.csv", "--into", "x", cwd=tmp_path).code == 0
    stamps = {path.name: path.stat().st_mtime for path in (tmp_path / "x").rglob("*.csv")}
    assert stamps == dict.fromkeys(["a.csv", "b.csv", "c.csv"], CHANGED.timestamp())
    assert run("audit", "x", cwd=tmp_path).code == 0
    again = run("haul", "cart.csv", "--into", "x", cwd=tmp_path)
    assert "all unchanged" in again.out or "already here" in again.out
    (tmp_path / "x" / "a.csv").touch()
    touched = run("audit", "x", cwd=tmp_path)
    assert touched.code == 0, "another time is not another file"
    assert run("haul", "cart.csv", "--into", "y", "--times", "now", cwd=tmp_path).code == 0
    now = datetime.now(UTC).timestamp()
    assert all(abs(path.stat().st_mtime - now) < 600 for path in (tmp_path / "y").glob("*.csv"))


MOMENTS = [
    "Thu, 01 Jan 1601 00:00:00 GMT",
    "Fri, 31 Dec 9999 23:59:59 GMT",
    "nonsense",
    format_datetime(CHANGED, usegmt=True),
]


@pytest.mark.parametrize("moment", MOMENTS)
def test_no_time_keeps_a_file_from_arriving(tmp_path: Path, place: StandIn, moment: str) -> None:
    def script(handler: StandInHandler) -> None:
        handler.start(200, {"Content-Length": str(len(LEVELS)), "Last-Modified": moment})
        handler.wfile.write(LEVELS)

    place.exhibits["x.csv"] = Exhibit(script=script)
    assert run("haul", f"{place.base}/x.csv", "--into", "x", cwd=tmp_path).code == 0
    assert files_in(tmp_path / "x") == {"x.csv": LEVELS}


def test_what_drips_is_given_up_by_slowest_and_by_the_time_for_a_file(
    tmp_path: Path, place: StandIn
) -> None:
    content = bytes(1_000_000)

    def drip(handler: StandInHandler) -> None:
        start = int((handler.headers.get("Range") or "bytes=0-")[6:].partition("-")[0])
        fields = {"Content-Length": str(len(content) - start), "ETag": '"1"'}
        if start:
            fields["Content-Range"] = f"bytes {start}-{len(content) - 1}/{len(content)}"
        handler.start(206 if start else 200, fields)
        for at in range(start, start + 30):
            handler.wfile.write(content[at : at + 1])
        handler.cut()

    place.exhibits["x.bin"] = Exhibit(script=drip)
    outcome = run("haul", f"{place.base}/x.bin", "--into", "x", "--pause", "0.01", cwd=tmp_path)
    assert outcome.code == 1
    assert sum(request.status == 200 for request in place.requests) == 6


@pytest.mark.parametrize("size", ["1" + "0" * 20, "9" * 5000, "-1", "²"])
def test_an_absurd_size_in_a_listing_holds_up_nothing(
    tmp_path: Path, place: StandIn, size: str
) -> None:
    page = f'<title>Index of /d/</title><pre><a href="a.csv">a.csv</a> 2031-06-01 06:00 {size}\n'
    feed = f'<rss><channel><item><enclosure url="{place.base}/d/a.csv" length="{size}"/></item>'
    place.exhibits |= {
        "d/": Exhibit(page.encode(), media_type="text/html; charset=utf-8"),
        "feed": Exhibit(f"{feed}</channel></rss>".encode(), media_type="application/rss+xml"),
        "d/a.csv": Exhibit(LEVELS),
    }
    for source in ("d/", "feed"):
        outcome = run("haul", f"{place.base}/{source}", "--into", "x", cwd=tmp_path)
        assert outcome.code == 0, outcome.err
