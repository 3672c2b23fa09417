"""The forms that carts are passed on in: what goes out comes in again, and what strangers write."""

from __future__ import annotations

import io
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from tests.support.offers import offers
from willow_cart.cart.forms import form_for, read_json_lines, write_json_lines
from willow_cart.errors import BadOption, UnreadableSource
from willow_cart.formats.bagit import read_fetch_list, write_fetch_list
from willow_cart.formats.metalink import NAMESPACE, read_metalink, write_metalink
from willow_cart.model import Checksum, Offer
from willow_cart.sources.discover import discover
from willow_cart.sources.listing import Discovery, Looking

A, B = "http://a.example/x/a.csv", "ftp://b.example/a.csv"
# XML has no control characters, and an attribute no line ends; names lose them here.
plain = st.text(st.characters(categories=["L", "N", "P", "S"]), min_size=1).filter(
    lambda name: name.strip(".") and "/" not in name
)
simple = st.builds(
    Offer,
    st.just(A),
    name=plain,
    folder=st.lists(plain, max_size=2).map("/".join),
    size=st.one_of(st.none(), st.integers(0, 10**15)),
    checksums=st.sampled_from([(), (Checksum("sha256", "ab" * 32), Checksum("sha1", "0c" * 20))]),
    mirrors=st.sampled_from([(), (B,)]),
)


def look_at(raw: str | bytes, **how: str) -> Discovery:
    content = raw.encode() if isinstance(raw, str) else raw
    return discover(["-"], looking=Looking(**how), standard_input=io.BytesIO(content))  # type: ignore[arg-type]


@given(st.lists(offers, max_size=4))
def test_json_lines_hold_everything(listed: list[Offer]) -> None:
    text = io.StringIO()
    write_json_lines(listed, text)
    assert list(read_json_lines(io.StringIO(text.getvalue()), "x")) == listed


@given(st.lists(simple, max_size=4))
def test_a_metalink_holds_names_sizes_hashes_and_mirrors(listed: list[Offer]) -> None:
    text = io.StringIO()
    write_metalink(listed, text)
    read = list(read_metalink(io.BytesIO(text.getvalue().encode()), "x"))
    assert [
        (each.path, each.size, each.checksums, each.address, each.mirrors)
        for each in read
        if isinstance(each, Offer)
    ] == [(o.path, o.size, o.checksums, o.address, o.mirrors) for o in listed]


@given(st.lists(offers, max_size=4))
def test_a_metalink_is_well_formed_whatever_is_in_it(listed: list[Offer]) -> None:
    text = io.StringIO()
    write_metalink(listed, text)
    root = etree.fromstring(text.getvalue().encode())
    assert len(root) == len(listed)


@given(st.lists(simple, max_size=4))
def test_a_bag_s_list_holds_paths_and_sizes(listed: list[Offer]) -> None:
    text = io.StringIO()
    write_fetch_list(listed, text)
    lines = text.getvalue().split("\n")
    read = [each for each in read_fetch_list(lines, "x") if isinstance(each, Offer)]
    assert [(each.address, each.size) for each in read] == [(o.address, o.size) for o in listed]
    for each, before in zip(read, listed, strict=True):
        whole = before.path if before.path.startswith("data/") else f"data/{before.path}"
        assert each.path == whole.rstrip()


def test_a_stranger_s_metalink_is_read_by_its_rules() -> None:
    found = look_at(
        f"""<?xml version="1.0"?><!-- from a mirror -->
        <!DOCTYPE metalink PUBLIC "x" "file:///etc/passwd">
        <metalink xmlns="{NAMESPACE}"><published>2031-06-01T06:00:00Z</published>
        <file name="levels/may.csv"><size>12</size><description> May&#10; levels</description>
          <hash type="sha-256">{"AB" * 32}</hash><hash type="whirlpool">00</hash>
          <url>http://last.example/may.csv</url>
          <url location="gb" priority="2">ftp://two.example/may.csv</url>
          <url priority="1">http://one.example/may.csv</url>
          <url priority="1">rsync://one.example/may.csv</url></file>
        <file name="gone.csv"><metaurl mediatype="torrent">http://h.example/t</metaurl></file>
        <file name="../../etc/passwd"><url>http://h.example/xp</url></file></metalink>"""
    )
    may, sly = found.offers
    assert (may.path, may.size, may.text) == ("levels/may.csv", 12, "May levels")
    assert may.checksums == (Checksum("sha256", "ab" * 32),)
    assert (may.address, may.mirrors) == (
        "http://one.example/may.csv",
        ("ftp://two.example/may.csv", "http://last.example/may.csv"),
    )
    assert sly.address == "http://h.example/xp"
    assert [each.place for each in found.troubles] == ["standard input, file 2"]
    broken = look_at(f'<metalink xmlns="{NAMESPACE}"><file name="a"><url>{A}</url></file><fi')
    assert len(broken.offers) == 1
    assert "is broken from file 2 on" in broken.troubles[0].why


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ("[1]", "not an object"),
        ('{"url": 5}', "url 5: not text"),
        ('{"name": "x"}', "not a valid address"),
        (f'{{"url": "{A}", "size": -1}}', "size -1: not an integer"),
        (f'{{"url": "{A}", "modified": "soon"}}', "soon"),
        (f'{{"url": "{A}", "checksum": "x"}}', "not a list of strings"),
        ('{"url": "http://h.example/\\ud800"}', "surrogates"),
        ('{"url": ', "Expecting value"),
    ],
)
def test_a_bad_line_of_json_is_told_by_its_number(line: str, why: str) -> None:
    good = f'{{"url": "{A}", "take": false}}\n{{"url": "{B}"}}\n'
    found = look_at(good + line)
    assert [each.address for each in found.offers] == [B]
    (trouble,) = found.troubles
    assert trouble.place == "standard input, line 3"
    assert why in trouble.why


def test_a_bag_s_list_is_told_by_its_shape() -> None:
    found = look_at(f"{A} 120 data/levels/may%0Alevels%20.csv\n{B} -  data/b.csv\nnothing\n")
    assert [(each.path, each.size) for each in found.offers] == [
        ("data/levels/may\nlevels%20.csv", 120),
        ("data/b.csv", None),
    ]
    assert [each.place for each in found.troubles] == ["standard input, line 3"]


def test_a_checksum_list_is_a_source_of_names() -> None:
    sums = f"{'ab' * 32}  maps/reedbed 2031.png\n{'cd' * 32} *../../a#1.csv\nSHA1 (b) = 12\n"
    found = look_at(sums, base="http://h.example/may/SHA256SUMS")
    assert [(each.address, each.path, str(each.checksums[0])[:9]) for each in found.offers] == [
        ("http://h.example/may/maps/reedbed%202031.png", "maps/reedbed 2031.png", "sha256:ab"),
        ("http://h.example/may/a%231.csv", "a#1.csv", "sha256:cd"),
    ]
    assert len(found.troubles) == 1
    with pytest.raises(
        UnreadableSource, match=r"does not contain the addresses of its files; give .* --base"
    ):
        look_at(sums)


def test_a_name_says_the_form() -> None:
    assert form_for(Path("may.CSV")) is None
    for name, form in (("a.jsonl", "JSON Lines"), ("bag/fetch.txt", "BagIt fetch.txt")):
        known = form_for(Path(name))
        assert known is not None
        assert known.name == form
    with pytest.raises(BadOption, match=r"unknown file type; use \.csv"):
        form_for(Path("may.xlsx"))
