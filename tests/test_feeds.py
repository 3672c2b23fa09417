"""Feeds and sitemaps, and XML that is a trap."""

from __future__ import annotations

import gzip
import zlib
from pathlib import Path

import pytest

from tests.support.program import run
from willow_cart.demo import harrowmere
from willow_cart.demo.stand_in import Exhibit, StandIn

ATOM = """<?xml version="1.0"?>
<feed xmlns="http://www.w3.org/2005/Atom" xml:base="/media/">
<title>Dawns</title><link rel="next" href="/atom2.xml"/>
<entry><title>Tenth of <b>May</b></title><updated>2031-05-10T06:00:00+02:00</updated>
<link rel="alternate" href="page.html"/>
<link rel="enclosure" href="dawn_10.wav" length="1200" title="stereo"/></entry>
<entry xml:base="old/"><title>No length</title><updated>2031-05</updated>
<link rel="enclosure" href="dawn_03.wav" length="0"/></entry>
</feed>"""
SITEMAP = """<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
<url><loc> {base}/a.csv </loc><lastmod>2031-05-10</lastmod></url>
<url><loc>{base}/b.csv</loc></url><url><loc>gopher://x/</loc></url></urlset>"""
INDEX = """<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
<sitemap><loc>{base}/sitemap_a.xml.gz</loc></sitemap><sitemap><loc>{base}/index.xml</loc></sitemap>
<sitemap><loc>{base}/gone.xml</loc></sitemap></sitemapindex>"""
FILES = b"""<!DOCTYPE r [<!ENTITY f SYSTEM "file:///etc/passwd">]><rss><channel><title>&f;</title>
<item><title>&f;</title><enclosure url="/x.csv"/></item></channel></rss>"""
BOMB = """<!DOCTYPE b [<!ENTITY a "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaa">{}]>
<rss><channel><item><title>&z;</title></item></channel></rss>"""
SWELLING = (f'<!ENTITY {chr(n + 1)} "{f"&{chr(n)};" * 20}">' for n in range(ord("a"), ord("z")))


def test_a_feed_offers_what_it_encloses(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["news.xml"] = Exhibit(harrowmere.make_feed(place.base))
    found = run("survey", f"{place.base}/news.xml", "--json", cwd=tmp_path).json()
    assert [(o["text"], o["heading"]) for o in found["offers"]] == [
        (f"Dawn of {day} May", "Dawns at Harrowmere") for day in ("24", "17", "10", "03")
    ]
    assert found["bytes_known"] > 4_000_000
    assert found["offers"][0]["modified"] == "2031-06-01T06:00:00+00:00"


def test_an_atom_feed_is_read_with_its_bases_and_its_pages(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["atom.xml"] = Exhibit(ATOM.encode(), media_type="application/atom+xml")
    second = ATOM.replace("atom2", "atom").replace("dawn_", "night_")
    place.exhibits["atom2.xml"] = Exhibit(second.encode())
    survey = ["survey", f"{place.base}/atom.xml", "--json"]
    one, two = run(*survey, cwd=tmp_path), run(*survey, "--pages", "9", cwd=tmp_path)
    first, last = one.json()["offers"]
    assert first["url"] == f"{place.base}/media/dawn_10.wav"
    assert (first["size"], first["modified"]) == (1200, "2031-05-10T06:00:00+02:00")
    assert (first["text"], first["title"]) == ("Tenth of May", "stereo")
    assert last["url"] == f"{place.base}/media/old/dawn_03.wav"
    assert (last["size"], last["modified"]) == (None, "2031-05-01T00:00:00+00:00")
    assert "--pages 2 or more" in one.err
    assert len(two.json()["offers"]) == 4


def test_sitemaps_are_read_through_their_index_however_packed(
    tmp_path: Path, place: StandIn
) -> None:
    sitemap = gzip.compress(SITEMAP.format(base=place.base).encode())
    place.exhibits["sitemap_a.xml.gz"] = Exhibit(sitemap)
    place.exhibits["index.xml"] = Exhibit(INDEX.format(base=place.base).encode())
    outcome = run("survey", f"{place.base}/index.xml", "--json", cwd=tmp_path)
    rows = [(offer["path"], offer["modified"]) for offer in outcome.json()["offers"]]
    assert rows == [("a.csv", "2031-05-10T00:00:00+00:00"), ("b.csv", None)]
    assert f"{place.base}/gone.xml: 404" in outcome.err
    assert "left out gopher://x/ (unsupported scheme gopher://)" in outcome.err
    direct = run("survey", f"{place.base}/sitemap_a.xml.gz", "--json", cwd=tmp_path)
    assert len(direct.json()["offers"]) == 2
    (tmp_path / "saved.xml").write_text(SITEMAP.format(base=place.base))
    assert len(run("survey", "saved.xml", "--json", cwd=tmp_path).json()["offers"]) == 2


def test_xml_that_is_data_is_a_file(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["levels.xml"] = Exhibit(b"<levels><url><loc>/a</loc></url></levels>")
    found = run("survey", f"{place.base}/levels.xml", "--json", cwd=tmp_path).json()
    assert [offer["path"] for offer in found["offers"]] == ["levels.xml"]


@pytest.mark.parametrize(
    "content",
    [
        FILES,
        BOMB.format("".join(SWELLING)).encode(),
        b"<rss><channel><item>",
        b"<urlset>" * 10_000,
    ],
)
def test_xml_that_is_a_trap_catches_nobody(tmp_path: Path, place: StandIn, content: bytes) -> None:
    place.exhibits["trap.xml"] = Exhibit(content)
    outcome = run("survey", f"{place.base}/trap.xml", "--json", cwd=tmp_path)
    assert "root:" not in outcome.out + outcome.err
    assert outcome.code in (0, 2, 3)
    assert len(outcome.out) < 2000
    (tmp_path / "bomb.xml").write_bytes(content)
    assert run("survey", "bomb.xml", "--as", "feed", "--base", place.base, cwd=tmp_path).code in (
        0,
        2,
        3,
    )


def test_a_packed_sitemap_that_swells_is_refused(tmp_path: Path, place: StandIn) -> None:
    packer = zlib.compressobj(wbits=31)
    packed = b"".join(packer.compress(bytes(1 << 20)) for _ in range(300)) + packer.flush()
    place.exhibits["sitemap.xml.gz"] = Exhibit(packed)
    outcome = run("survey", f"{place.base}/sitemap.xml.gz", cwd=tmp_path)
    assert outcome.code == 2
    assert "sitemap.xml.gz: is too large after decompression" in outcome.err
