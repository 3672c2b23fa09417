"""Pages taken with all they need, and read with the server gone, in a real browser."""

from __future__ import annotations

import gzip
import io
import json
import os
import re
import signal
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import numpy as np
import pytest
from fastwarc.warc import ArchiveIterator, WarcRecordType
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from selenium import webdriver

from tests.support.program import PATIENCE, Outcome, files_in, run, start, wait_for_bytes
from willow_cart.demo.places import make_exhibits
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.offline_copies.page_rewriting import NOTHING, Markup
from willow_cart.offline_copies.scope import Role, plain_address
from willow_cart.offline_copies.styles import rewrite_style


@pytest.fixture
def guide() -> Iterator[StandIn]:
    """The trust's field guide, on its own."""
    exhibits = {path: each for path, each in make_exhibits().items()
                if path.startswith("guide") or path == "robots.txt"}  # fmt: skip
    with StandIn(exhibits) as stand_in:
        yield stand_in


def offline(place: StandIn, folder: Path, *more: str, page: str = "guide/") -> Outcome:
    return run("offline", f"{place.base}/{page}", "--into", "g", *more, cwd=folder)


def pages_in(folder: Path) -> dict[str, bytes]:
    """What can be read, by its path below the host's folder."""
    (host,) = (folder / "g" / "pages").iterdir()
    return files_in(host)


def asked_by(driver: webdriver.Chrome) -> list[str]:
    """Every address that the browser has asked for since it was asked last."""
    events = [json.loads(each["message"])["message"] for each in
              driver.get_log("performance")]  # type: ignore[no-untyped-call]  # fmt: skip
    return [
        event["params"]["request"]["url"]
        for event in events
        if event["method"] == "Network.requestWillBeSent"
    ]


def picture_of(driver: webdriver.Chrome, address: str) -> Any:
    driver.get(address)
    driver.execute_async_script("document.fonts.ready.then(arguments[0])")
    picture = Image.open(io.BytesIO(driver.get_screenshot_as_png())).convert("RGB")
    return np.asarray(picture, dtype=int)


def test_every_page_looks_as_it_did_and_asks_nobody(
    chromium: webdriver.Chrome, guide: StandIn, tmp_path: Path
) -> None:
    done = offline(guide, tmp_path, "--depth", "all")
    assert done.code == 1
    assert done.out.endswith(
        "here: 14 pages, 17 other files, 2 duplicate addresses; 32 files written, the start page"
        " included; start at g/index.html\n"
    )
    assert "1 file disallowed by robots.txt" in done.err
    assert (
        f"could not fetch {guide.base}/guide/gone.html (needed by {guide.base}/guide/):" in done.err
    )
    chromium.set_window_size(1000, 900)
    online = {}
    local = {path: path.as_uri() for path in sorted((tmp_path / "g" / "pages").rglob("*.html"))}
    for path in local:
        below = path.relative_to(tmp_path / "g" / "pages").as_posix().partition("/")[2]
        address = re.sub(r"(^|/)index\.html$", r"\1", below).replace("~", "?")
        address = re.sub(r"(log.*)\.html$", r"\1", address)
        online[path] = picture_of(chromium, f"{guide.base}/{address}")
    guide.exhibits.clear()
    asked_by(chromium)
    chromium.get_log("browser")  # type: ignore[no-untyped-call]
    for path, address in local.items():
        seen = picture_of(chromium, address)
        # Some shades where letters meet pictures; nobody would see them.
        assert np.mean(np.abs(seen - online[path]).max(axis=2) > 24) < 0.001, path
        assert chromium.get_log("browser") == []  # type: ignore[no-untyped-call]
    chromium.get((tmp_path / "g" / "index.html").as_uri())
    root = (tmp_path / "g").as_uri()
    asked = [each for each in asked_by(chromium) if not each.startswith("data:")]
    assert len(asked) > 60
    assert all(each.startswith(root) for each in asked), set(asked)
    assert all(Path(unquote(urlsplit(each).path)).is_file() for each in asked)
    links = chromium.execute_script("return [...document.links].map(each => each.href)")
    assert len([each for each in links if each.startswith(f"{root}/pages/")]) == 15
    assert "never.png" in chromium.page_source


def test_a_second_run_renews_what_has_changed_and_leaves_the_rest(
    guide: StandIn, tmp_path: Path
) -> None:
    offline(guide, tmp_path, "--depth", "all")
    before = pages_in(tmp_path)
    stamps = {path: path.stat().st_mtime_ns for path in (tmp_path / "g").rglob("*.html")}
    again = offline(guide, tmp_path, "--depth", "all")
    assert "33 unchanged" in again.out
    # The start page tells when, to the minute.
    assert re.search("; [01] files? written; start", again.out)
    assert pages_in(tmp_path) == before
    start_page = tmp_path / "g" / "index.html"
    assert {path for path, stamp in stamps.items() if path.stat().st_mtime_ns != stamp} <= {
        start_page
    }
    reed = guide.exhibits["guide/plants/reed.html"]
    reed.content = reed.content.replace(b"</body>", b'<a href="sedge.html">sedge</a></body>')
    guide.exhibits["guide/plants/sedge.html"] = Exhibit(b"<title>Sedge</title>sedge")
    del guide.exhibits["guide/log?page=3"]
    for path in ("guide/log", "guide/log?page=2"):
        each = guide.exhibits[path]
        each.content = each.content.replace(b'<a href="log?page=3">3</a>', b"")
    (tmp_path / "g" / "mine.txt").write_text("mine")
    third = offline(guide, tmp_path, "--depth", "all")
    assert re.search(r"\d+ files: 4 arrived, 29 unchanged", third.out), third.out
    assert re.search("[45] files written, the start page included, 1 removed", third.out)
    after = pages_in(tmp_path)
    assert set(after) - set(before) == {"guide/plants/sedge.html"}
    assert set(before) - set(after) == {"guide/log~page=3.html"}
    assert b'<a href="sedge.html">sedge</a>' in after["guide/plants/reed.html"]
    assert (tmp_path / "g" / "mine.txt").read_text() == "mine"
    # What was served stays, also what is not a known part any more, and the ledger knows it all.
    audit = run("audit", "g", "--csv", cwd=tmp_path)
    assert (audit.code, audit.out.count("unknown"), "missing" in audit.out) == (0, 1, False)
    assert run("receipt", "g", "--runs", cwd=tmp_path).out.count("willow-cart offline") == 3


def test_what_was_changed_here_is_kept(guide: StandIn, tmp_path: Path) -> None:
    (tmp_path / "g").mkdir()
    (tmp_path / "g" / "index.html").write_text("my own")
    offline(guide, tmp_path)
    assert b"Field guide" in (tmp_path / "g" / "index.html").read_bytes()
    (host,) = (tmp_path / "g" / "pages").iterdir()
    (host / "guide" / "index.html").write_text("with my notes")
    offline(guide, tmp_path)
    kept = {path.name: path.read_text() for path in
            (tmp_path / "g" / ".willow" / "aside").rglob("*.html")}  # fmt: skip
    assert len(list((tmp_path / "g" / ".willow" / "aside").rglob("*.html"))) == 2
    assert set(kept.values()) <= {"my own", "with my notes"}
    assert b"Field guide" in (host / "guide" / "index.html").read_bytes()


def test_a_page_alone_and_the_options_that_widen_it(guide: StandIn, tmp_path: Path) -> None:
    alone = offline(guide, tmp_path)
    assert {path for path in pages_in(tmp_path) if path.endswith(".html")} == {
        "guide/index.html", "guide/level.html"
    }  # fmt: skip
    assert re.search(r"\d+ links lead deeper \(--depth 2 or --depth all follows them\)", alone.err)
    page = pages_in(tmp_path)["guide/index.html"].decode()
    assert f'<a href="{guide.base}/guide/birds/teal.html#voice">' in page
    offline(guide, tmp_path, "--depth", "2", "--drop", "*/log*", "--parts", "styles")
    wider = pages_in(tmp_path)
    assert "guide/birds/index.html" in wider
    assert not any("log" in path or path.endswith(".wav") for path in wider)
    assert f'<audio controls src="{NOTHING}">' in wider["guide/index.html"].decode()
    few = offline(guide, tmp_path, "--depth", "all", "--first", "3")
    assert len([path for path in pages_in(tmp_path) if path.endswith(".html")]) == 5
    assert re.search(r"\d+ links not chosen", few.err)
    old = offline(guide, tmp_path, "--depth", "2", "--until", "2030-01-01")
    assert "with no date, which a rule needs" in old.err
    offline(guide, tmp_path, "--depth", "2", "--until", "2030-01-01", "--ask-sizes")
    assert not any("birds" in path for path in pages_in(tmp_path))
    offline(guide, tmp_path, "--ignore-robots", "--depth", "2")
    assert "guide/private/nests.html" in pages_in(tmp_path)


def test_other_pages_do_not_take_their_place(guide: StandIn, tmp_path: Path) -> None:
    assert offline(guide, tmp_path).code == 1
    before = pages_in(tmp_path)
    other = offline(guide, tmp_path, page="guide/log")
    assert (other.code, f"g: holds the pages of {guide.base}/guide/;" in other.err) == (2, True)
    assert pages_in(tmp_path) == before
    both = run("offline", f"{guide.base}/guide/log", f"{guide.base}/guide/", "--into", "g",
               cwd=tmp_path)  # fmt: skip
    assert (both.code, "removed" in both.out) == (1, False)
    assert set(pages_in(tmp_path)) == {*before, "guide/log.html"}


def test_what_is_interrupted_leaves_the_copies_as_they_were(guide: StandIn, tmp_path: Path) -> None:
    offline(guide, tmp_path, "--depth", "all")
    before = files_in(tmp_path / "g" / "pages")
    guide.exhibits["guide/plants/"].content += b"new"
    guide.exhibits["guide/birds/"] = Exhibit(os.urandom(900_000), speed=100_000,
                                             media_type="text/html")  # fmt: skip
    process = start("offline", f"{guide.base}/guide/", "--into", "g", "--depth", "all",
                    cwd=tmp_path)  # fmt: skip
    wait_for_bytes(tmp_path / "g", 50_000, process)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=PATIENCE)
    assert process.returncode == 130
    assert b"stopped early; the copies were not changed" in err
    assert files_in(tmp_path / "g" / "pages") == before


def test_no_secret_of_an_address_is_written_anywhere(place: StandIn, tmp_path: Path) -> None:
    place.exhibits["a.html?token=reedmace"] = Exhibit(b"<title>a</title>", media_type="text/html")
    done = offline(place, tmp_path, page="a.html?token=reedmace")
    assert done.code == 0
    written = "".join(f"{path} {path.read_bytes()!r}" for path in tmp_path.rglob("*")
                      if path.is_file())  # fmt: skip
    assert "reedmace" not in written + done.out + done.err


def test_needs_come_from_other_hosts_only_if_they_are_named(tmp_path: Path) -> None:
    with StandIn({"far.png": Exhibit(b"p"), "x.html": Exhibit(b"<p>x")}) as far:
        other = far.base.replace("127.0.0.1", "localhost")
        page = f'<title>a</title><img src="{other}/far.png"><a href="{other}/x.html">x</a>'
        with StandIn({"a.html": Exhibit(page.encode())}) as place:
            host = other.removeprefix("http://")
            without = offline(place, tmp_path, "--depth", "all", page="a.html")
            assert (
                f"1 file needed from {host} not fetched (--also {host} fetches them)" in without.err
            )
            assert (without.code, far.requests) == (0, [])
            read = (tmp_path / "g/pages").rglob("a.html")
            assert NOTHING in next(read).read_text()
            assert offline(place, tmp_path, "--also", "localhost:*", page="a.html").code == 0
            assert {each.path for each in far.requests} == {"/robots.txt", "/far.png"}


def test_a_kill_loses_nothing_and_the_next_run_ends_it(guide: StandIn, tmp_path: Path) -> None:
    big = os.urandom(400_000)
    guide.exhibits["guide/sound/dawn.wav"] = Exhibit(big, speed=200_000)
    for width in (640, 1280):
        guide.exhibits[f"guide/picture/mere-{width}.png"] = Exhibit(b"small")
    process = start("offline", f"{guide.base}/guide/", "--into", "g", cwd=tmp_path)
    wait_for_bytes(tmp_path / "g", 50_000, process)
    process.kill()
    process.communicate()
    assert not (tmp_path / "g" / "pages").exists()
    guide.exhibits["guide/sound/dawn.wav"].speed = None
    guide.requests.clear()
    done = offline(guide, tmp_path)
    assert "other files" in done.out
    assert pages_in(tmp_path)["guide/sound/dawn.wav"] == big
    (asked,) = [each for each in guide.requests if each.path == "/guide/sound/dawn.wav"]
    assert asked.fields["range"].startswith("bytes=")


@pytest.mark.posix
def test_what_a_kill_left_in_the_making_is_not_written_into(guide: StandIn, tmp_path: Path) -> None:
    offline(guide, tmp_path)
    (served,) = (tmp_path / "g/as-served").rglob("mere-640.png")
    drawer = tmp_path / "g" / ".willow" / "making"
    drawer.mkdir()
    (drawer / "file").hardlink_to(served)  # as if between the link and its name
    before = served.read_bytes()
    guide.exhibits["guide/"].content += b"<p>new"
    offline(guide, tmp_path)
    assert served.read_bytes() == before
    assert pages_in(tmp_path)["guide/index.html"].endswith(b"<p>new")


def test_bytes_and_character_sets_are_kept(place: StandIn, tmp_path: Path) -> None:
    polish = "<p title='x'   >Łąka &amp; bagno <A HREF = b.html>x</A>\r\n<br/><i>"
    place.exhibits |= {
        # Its server alone says what it is written in.
        "a.html": Exhibit(polish.encode("iso-8859-2"), media_type="text/html; charset=iso-8859-2"),
        "b.html": Exhibit(f"\ufeff{polish}".encode("utf-16-le"), media_type="text/html"),
        # Nobody says, and it is broken besides.
        "c.html": Exhibit(
            b"<p>\xff\xfe\x80 broken <a href=a.html>\xe9</a>", media_type="text/html"
        ),
    }
    expected = {
        "a.html": f'<meta charset="iso-8859-2">{polish}'.encode("iso-8859-2"),
        "b.html": f"\ufeff{polish}".encode("utf-16-le"),
        "c.html": place.exhibits["c.html"].content,
    }
    for name, content in expected.items():
        folder = tmp_path / name
        folder.mkdir()
        assert offline(place, folder, "--depth", "2", page=name).code == 0
        assert pages_in(folder)[name] == content
        (served,) = (folder / "g/as-served").rglob(name)
        assert served.read_bytes() == place.exhibits[name].content


def test_no_name_of_a_server_leads_out(place: StandIn, tmp_path: Path) -> None:
    place.exhibits |= {
        "a/": Exhibit(
            b'<title><script>alert(1)</script></title><a href="x?f=../../../../up.html">1</a>'
            b'<a href="%2e%2e%2f%2e%2e%2fup.html">2</a><a href="con.html">3</a>'
            b'<a href="x?f=%3Cimg%20src=x%3E">4</a><img src="file:///etc/hostname">',
            media_type="text/html",
        ),
        "a/x?f=../../../../up.html": Exhibit(b"<p>1", media_type="text/html"),
        "a/%2E%2E%2F%2E%2E%2Fup.html": Exhibit(b"<p>2"),
        "a/con.html": Exhibit(b"<p>3"),
        "a/x?f=%3Cimg%20src=x%3E": Exhibit(b"<p>4", media_type="text/html"),
    }
    assert offline(place, tmp_path, "--depth", "all", page="a/").code == 0
    assert {path.name for path in tmp_path.iterdir()} == {"g"}
    assert len(pages_in(tmp_path)) == 5
    assert NOTHING in pages_in(tmp_path)["a/index.html"].decode()
    start_page = (tmp_path / "g" / "index.html").read_text()
    assert "<script>" not in start_page
    assert "<img" not in start_page


def test_the_exchanges_are_kept_exactly_and_read_by_another(tmp_path: Path) -> None:
    packed = gzip.compress(b"<title>a</title><img src=b.png>" * 50)

    def chunked(handler: Any) -> None:
        handler.start(200, {"Transfer-Encoding": "chunked", "Set-Cookie": "key=mere",
                            "Content-Type": "text/html", "Content-Encoding": "gzip"})  # fmt: skip
        for at in range(0, len(packed), 40):
            piece = packed[at : at + 40]
            handler.wfile.write(b"%x\r\n%s\r\n" % (len(piece), piece))
        handler.wfile.write(b"0\r\n\r\n")

    exhibits = {"a.html": Exhibit(script=chunked), "b.png": Exhibit(b"p" * 3000, breaks=[1000])}
    with StandIn(exhibits) as place:
        done = offline(place, tmp_path, "--warc", "x.warc.gz", "--header", "X-Key: reedmace",
                       page="a.html")  # fmt: skip
        assert done.code == 0, done.err
        again = offline(place, tmp_path, "--warc", "x.warc.gz", page="a.html")
        assert (again.code, "already exists" in again.err) == (2, True)
        named = offline(place, tmp_path, "--warc", "x.zip", page="a.html")
        assert (named.code, "use .warc or .warc.gz" in named.err) == (2, True)
    content = (tmp_path / "x.warc.gz").read_bytes()
    raw = gzip.decompress(content)
    assert b"reedmace" not in raw
    assert b"key=mere" not in raw
    records = []
    for record in ArchiveIterator(io.BytesIO(content), parse_http=False):
        assert record.verify_block_digest()
        body = record.reader.read()
        records.append((record.record_type, dict(record.headers.items()), body))
    answers = [each for each in records if each[0] == WarcRecordType.response]
    assert len(answers) == len([each for each in records if each[0] == WarcRecordType.request])
    (page,) = [body for _, marks, body in answers if marks["WARC-Target-URI"].endswith("a.html")]
    framed = page.partition(b"\r\n\r\n")[2]
    assert framed.startswith(b"28\r\n\x1f\x8b")
    assert framed.endswith(b"0\r\n\r\n")
    pictures = [(marks.get("WARC-Truncated"), body.partition(b" ")[2][:3]) for _, marks, body
                in answers if marks["WARC-Target-URI"].endswith("b.png")]  # fmt: skip
    assert pictures == [("disconnect", b"200"), (None, b"206")]


def test_slips_are_told_before_anything_is_asked(guide: StandIn, tmp_path: Path) -> None:
    for more, told in (
        (["--parts", "links"], "--parts links: not a known part"),
        (["--depth", "0"], "0 is not a whole number from 1 up"),
        (["--stay", "town"], "invalid choice"),
        (["--link-text", "x"], "--link-text: cannot be used here; choose by address"),
    ):
        done = offline(guide, tmp_path, *more)
        assert (done.code, told in done.err) == (2, True), done.err
    nothing = offline(guide, tmp_path, page="nothing")
    assert (nothing.code, "begin at" in nothing.out) == (1, False)
    assert "nothing: 404" in nothing.err
    guide.requests.clear()
    elsewhere = run("offline", "ftp://127.0.0.1/a.html", "--into", "g", cwd=tmp_path)
    assert (elsewhere.code, "not a web address" in elsewhere.err) == (2, True)
    assert guide.requests == []
    assert not (tmp_path / "g" / "index.html").exists()


@pytest.mark.parametrize(
    ("style", "found"),
    [
        ("a{b:url(x.png)} c{d:url( 'y z.png' )}", ["x.png", "y z.png"]),
        ('@import "a.css" screen; @import url(b.css);', ["a.css", "b.css"]),
        ("/* url(no) */ a{content:'url(no)'} b{c:url(yes)}", ["yes"]),
        ("@namespace svg url(http://www.w3.org/2000/svg); a{b:url(y)}", ["y"]),
        (r"a{b:url(x\29 y.png)} c{d:url('\78 .png')}", ["x)y.png", "x.png"]),
        ("a{b:URL(x)} .curl(c){} a{b:myurl(no)}", ["x"]),
        ("a{b:url(x", []),
        ("/* never closed url(no)", []),
    ],
)
def test_references_in_style_sheets(style: str, found: list[str]) -> None:
    seen = []

    def note(reference: str, _role: Role) -> None:
        seen.append(reference)

    assert rewrite_style(style, note) == style
    assert seen == found
    rewritten = rewrite_style(style, lambda reference, _: f"L/{len(reference)}")
    assert rewrite_style(rewritten, lambda reference, _: reference) == rewritten


ATTRIBUTES = [("a", "href"), ("img", "src"), ("link rel=stylesheet", "href"), ("iframe", "src"),
              ("svg><use", "xlink:href"), ("body", "background"), ("video", "poster"),
              ("p", "data-x"), ("form", "action")]  # fmt: skip
ADDRESSES = st.text("abc/.?&=#'\" é%:<>\n", max_size=12)


@st.composite
def pages(draw: st.DrawFn) -> tuple[str, list[str]]:
    """A page of odd tags, and every reference in it."""
    parts, references = [], []
    for _ in range(draw(st.integers(0, 6))):
        tag, name = draw(st.sampled_from(ATTRIBUTES))
        address = draw(ADDRESSES)
        quote = draw(st.sampled_from("'\""))
        escaped = address.replace("&", "&amp;").replace(quote, f"&#{ord(quote)};")
        blank = draw(st.sampled_from(["", " ", "\n "]))
        parts.append(f"<{tag} {name}{blank}={blank}{quote}{escaped}{quote}{blank}>")
        if name != "data-x":
            references.append(address)
        parts.append(draw(st.sampled_from(
            ["", "text <", "<!-- <a href=no> -->", "<script>'<a href=no>'</script>", "</p>",
             "&amp;",
             "<style>a{b:url(s)}</style>", "<p style='c:url(t)'>"])))  # fmt: skip
        references += {"<style>a{b:url(s)}</style>": ["s"], "<p style='c:url(t)'>": ["t"]}.get(
            parts[-1], []
        )
    return "".join(parts), references


@given(pages())
def test_rewriting_finds_every_reference_and_changes_nothing_else(
    page: tuple[str, list[str]],
) -> None:
    text, references = page
    seen: list[str] = []

    def note(reference: str, _role: Role) -> None:
        seen.append(reference)

    assert Markup(text).rewritten(note) == text
    assert sorted(seen) == sorted(references)
    rewritten = Markup(text).rewritten(lambda reference, _: f"L{len(reference)}")
    again: list[str] = []

    def same(reference: str, _role: Role) -> str:
        again.append(reference)
        return reference

    # What was rewritten is found again, and rewriting it to itself changes nothing any more.
    assert Markup(rewritten).rewritten(same) == rewritten
    assert sorted(again) == sorted(f"L{len(reference)}" for reference in references)


def test_sets_of_pictures_lose_what_is_not_to_be_had() -> None:
    page = '<img srcset="a.png 1x, b,c.png 2x,d.png" integrity=x crossorigin src=e.png>'
    here = {"a.png": "A", "e.png": "E"}
    assert Markup(page).rewritten(lambda each, _: here.get(each, NOTHING)) == (
        '<img srcset="A 1x"  src="E">'.replace("  ", "   ")
    )


@pytest.mark.parametrize(
    ("address", "plain"),
    [
        ("https://h/a;jsessionid=5E?b=1#c", "https://h/a?b=1"),
        ("https://h/a?sid=1&PHPSESSID=2&page=3&utm_source=x", "https://h/a?page=3"),
        ("https://h/a?sort=b&sort=a", "https://h/a?sort=b&sort=a"),
        ("https://h/a?inside=1", "https://h/a?inside=1"),
    ],
)
def test_what_knows_visitors_again_is_no_part_of_an_address(address: str, plain: str) -> None:
    assert plain_address(address) == plain
