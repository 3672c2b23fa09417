"""Pages: what a browser would find on them, where on the page, and several of them."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import files_in, run
from willow_cart.addresses import normalise
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.errors import BadAddress
from willow_cart.model import Offer
from willow_cart.sources.listing import Looking, PagePart
from willow_cart.sources.web_pages.markup import decode_page, open_page
from willow_cart.sources.web_pages.pages import read_page
from willow_cart.sources.web_pages.references import Resolver, sources_in_set

HERE = "http://trust.example/hides/2031.html"
ALL = tuple(PagePart)


def read(markup: str, *parts: str, address: str = HERE, **rules: Any) -> list[Offer]:
    page = open_page(markup.encode(), address)
    return read_page(page, Looking(parts=",".join(parts or ("links",)), **rules), "the page").offers


def addresses(markup: str, *parts: str, address: str = HERE) -> list[str]:
    return [offer.address for offer in read(markup, *parts, address=address)]


@pytest.mark.parametrize(
    ("part", "markup"),
    [
        ("links", "<a href=/x>"),
        ("links", "<map><area href=/x></map>"),
        ("links", "<iframe src=/x></iframe>"),
        ("links", "<meta http-equiv=Refresh content='5; URL=/x'>"),
        ("links", "<link rel=alternate href=/x>"),
        ("images", "<img src=/x>"),
        ("images", "<img srcset='/x 2x'>"),
        ("images", "<picture><source srcset=/x></picture>"),
        ("images", "<video poster=/x></video>"),
        ("images", "<link rel='shortcut icon' href=/x>"),
        ("images", "<input type=image src=/x>"),
        ("images", "<svg><image href=/x /></svg>"),
        ("media", "<video src=/x></video>"),
        ("media", "<audio><source src=/x></audio>"),
        ("media", "<video><track src=/x></video>"),
        ("media", "<embed src=/x>"),
        ("media", "<object data=/x></object>"),
        ("styles", "<link rel=stylesheet href=/x>"),
        ("styles", "<link rel=preload as=font href=/x>"),
        ("scripts", "<script src=/x></script>"),
    ],
)
def test_every_reference_is_of_its_part_and_of_no_other(part: str, markup: str) -> None:
    for each in ALL:
        assert addresses(markup, each) == (["http://trust.example/x"] if each == part else [])


@pytest.mark.parametrize(
    ("reference", "address"),
    [
        ("a.csv", "http://trust.example/hides/a.csv"),
        ("../a.csv", "http://trust.example/a.csv"),
        ("//cdn.example/a.csv", "http://cdn.example/a.csv"),
        ("?page=2", "http://trust.example/hides/2031.html?page=2"),
        (" \n/a\n.csv\t", "http://trust.example/a.csv"),
        ("a&amp;b.csv", "http://trust.example/hides/a&b.csv"),
        ("a b.csv", "http://trust.example/hides/a%20b.csv"),
        ("weg\\a.csv", "http://trust.example/hides/weg/a.csv"),
        ("ü.csv#part", "http://trust.example/hides/%C3%BC.csv"),
        ("HTTPS://Trust.Example:443/A", "https://trust.example/A"),
        ("a%2fb.csv", "http://trust.example/hides/a%2Fb.csv"),
        ("javascript:alert(1)", None),
        ("mailto:hides@trust.example", None),
        ("data:text/plain,x", None),
        ("#top", None),
        ("", None),
        ("2031.html", None),
        ("gopher://trust.example/x", None),
        ("http://", None),
        ("http://[/", None),
    ],
)
def test_references_lead_where_browsers_would_go(reference: str, address: str | None) -> None:
    found = addresses(f'<a href="{reference}">x</a>')
    assert found == ([] if address is None else [address])


def test_a_base_and_a_character_set_change_what_references_mean() -> None:
    based = '<base href="/files/"><a href=a.csv>x</a>'
    assert addresses(based) == ["http://trust.example/files/a.csv"]
    page = '<meta charset=iso-8859-1><a href="ü.csv?q=ü">Übersicht</a>'.encode("latin-1")
    (offer,) = read_page(open_page(page, HERE), Looking(), "").offers
    assert offer.address == "http://trust.example/hides/%C3%BC.csv?q=%FC"
    assert offer.text == "Übersicht"


@pytest.mark.parametrize(
    ("content", "charset", "text"),
    [
        ("\ufeffé".encode("utf-16-le"), "iso-8859-1", "é"),
        ("é".encode(), "", "é"),
        ("é".encode("latin-1"), "", "é"),
        (b"\x80", "iso-8859-1", "€"),
        ("<meta charset=koi8-r>я".encode("koi8-r"), "", "<meta charset=koi8-r>я"),
        ("<meta charset=koi8-r>é".encode(), "utf-8", "<meta charset=koi8-r>é"),
        ("é".encode(), "no-such-charset", "é"),
        ("é".encode(), "base64", "é"),
    ],
)
def test_the_real_character_set_is_found(content: bytes, charset: str, text: str) -> None:
    assert decode_page(content, charset)[0] == text


TABLE = """
<h2>May</h2><table>
<tr><th>Hide<th>Counts<th>Recording
<tr><th colspan=3>First week
<tr><td rowspan=2>alder<td><a href=1>one</a><td><a href=2 title="a  dawn"><img alt=dawn></a> <a
 href=3>three</a>
<tr><td><a href=1><b>one</b> again</a><td><a href=4>four
</table><h2>June</h2><a href=5><img src=p></a><a href=5>five</a>
"""


def test_an_offer_says_where_on_the_page_it_is() -> None:
    rows = [
        (o.number, o.text, o.title, o.heading, o.cell and (o.cell.row, o.cell.place, o.cell.column))
        for o in read(TABLE)
    ]
    assert rows == [
        (1, "one", "", "First week", (1, 1, 2)),
        (2, "dawn", "a dawn", "First week", (1, 2, 3)),
        (3, "three", "", "First week", (1, 3, 3)),
        (4, "four", "", "First week", (2, 2, 3)),
        (5, "five", "", "June", None),
    ]
    assert [o.cell.title for o in read(TABLE) if o.cell] == ["Counts", *["Recording"] * 3]


def test_only_what_a_selector_names_counts() -> None:
    markup = "<nav><a href=n>n</a></nav><div id=m><p><a href=1>1</a></p><a href=2>2</a></div>"
    assert [o.file_name for o in read(markup, within="#m")] == ["1", "2"]
    assert [o.number for o in read(markup, within="#m > a, nav")] == [1, 2]
    assert read(markup, within=".none") == []


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("a.png 1x, b.png 2x", ["a.png", "b.png"]),
        ("a.png,", ["a.png"]),
        ("a,b.png 100w,c.png", ["a,b.png", "c.png"]),
        (" , a.png 1x(,) , b.png", ["a.png", "b.png"]),
        ("", []),
    ],
)
def test_sets_of_pictures_are_read_as_browsers_read_them(text: str, found: list[str]) -> None:
    assert sources_in_set(text) == found


@given(st.text())
def test_whatever_a_reference_is_it_stands_for_one_address_or_none(reference: str) -> None:
    try:
        address = Resolver(HERE).resolve(reference)
    except BadAddress:
        return
    assert address is None or normalise(address) == address


@given(st.binary(max_size=200), st.sampled_from(["", "utf-8", "utf-16", "latin-1", "x"]))
def test_whatever_a_page_is_made_of_it_is_read(content: bytes, charset: str) -> None:
    for tail in (b"", b"<a href=x>", b"<table><tr><td><a href=x>"):
        read_page(open_page(content + tail, HERE, charset), Looking(parts=",".join(ALL)), "")


# With the program


@pytest.fixture
def hides(trust_site: StandIn) -> str:
    return f"{trust_site.base}/hides/2031.html"


def test_a_page_is_surveyed_with_what_to_ask_for(tmp_path: Path, hides: str) -> None:
    outcome = run("survey", hides, cwd=tmp_path)
    assert " 3   2031-05/causeway_dawn.wav       dawn chorus" in outcome.out
    assert "April 2031       9" in outcome.out
    assert "3 Recording   sound" in outcome.out
    assert outcome.last_line.startswith("29 offers, 29 chosen, 29 sizes unknown")


@pytest.mark.parametrize(
    ("options", "numbers"),
    [
        (["--nth", "1/3", "--within", "table"], [1, 4, 7, 10, 13, 16, 19, 22, 25]),
        (["--column", "recording", "--keep", "2031-05/*"], [3, 6, 9]),
        (["--column", "2", "--nth", "1/3"], [2, 11, 20]),
        (["--link-text", "DAWN *", "--first", "2"], [3, 6]),
        (["--kind", "image", "--within", "h2 + table", "--drop", "*_map*"], []),
        (["--within", "table:nth-of-type(2)", "--ext", "csv"], [1, 4, 7]),
        (["--parts", "images,styles"], [1, *range(2, 11)]),
    ],
)
def test_places_on_the_page_choose(
    tmp_path: Path, hides: str, options: list[str], numbers: list[int]
) -> None:
    outcome = run("survey", hides, *options, "--json", cwd=tmp_path)
    assert [offer["number"] for offer in outcome.json()["offers"]] == numbers
    assert outcome.code == (0 if numbers else 3)


def test_what_was_chosen_on_a_page_comes_home(
    tmp_path: Path, hides: str, trust_site: StandIn
) -> None:
    options = [hides, "--column", "Counts", "--keep", "2031-0[45]/*"]
    assert run("haul", *options, "--into", "x", cwd=tmp_path).code == 0
    assert sorted(files_in(tmp_path / "x")) == sorted(
        f"2031-{month}/{hide}_counts.csv"
        for month in ("04", "05")
        for hide in ("alder", "causeway", "long-reach")
    )


def test_pages_that_follow_are_followed_as_far_as_asked(tmp_path: Path, hides: str) -> None:
    one = run("survey", hides, "--ext", "wav", "--json", cwd=tmp_path)
    assert len(one.json()["offers"]) == 9
    assert "1 further page not followed (--pages 2 or more to follow)" in one.err
    for how in ([], ["--next", "p:last-child > a"]):
        two = run("survey", hides, "--pages", "5", *how, "--ext", "wav", "--json", cwd=tmp_path)
        assert len(two.json()["offers"]) == 12
        assert two.err == ""
    ranged = hides.replace("2031", "{2030..2031}")
    assert len(run("survey", ranged, "--ext", "wav", "--json", cwd=tmp_path).json()["offers"]) == 12


def test_a_series_of_pages_without_end_ends(tmp_path: Path, place: StandIn) -> None:
    def endless(handler: StandInHandler) -> None:
        number = int(handler.path.partition("=")[2] or 1)
        page = f"<a href=/same.csv>s</a><a rel=next href=?page={number + 1}>next</a>".encode()
        if number < 3:
            page += f"<a href=/{number}.csv>x</a>".encode()
        fields = {"Content-Type": "text/html", "Content-Length": str(len(page))}
        if number == 2:  # RFC 8288: a header names the next one as well
            page = page.replace(b"rel=next", b"rel=nxt=")
            fields |= {"Link": '<?page=3>; title="a, b"; rel="next last"'}
            fields["Content-Length"] = str(len(page))
        handler.start(200, fields)
        handler.wfile.write(page)

    for number in range(1, 9):
        place.exhibits[f"list?page={number}"] = Exhibit(script=endless)
    outcome = run(
        "survey", f"{place.base}/list?page=1", "--pages", "100", "--ext", "csv", "--json",
        cwd=tmp_path,
    )  # fmt: skip
    paths = [offer["path"] for offer in outcome.json()["offers"]]
    assert paths == ["same.csv", "1.csv", "2.csv"]
    assert "page 3 of " in outcome.err
    assert "contains nothing new" in outcome.err


def test_a_saved_or_pasted_page_is_read_with_its_address(tmp_path: Path) -> None:
    part = b'May: <a href="2031-05/a.csv">a</a> <a href="http://b.example/b.csv">b</a>'
    (tmp_path / "saved.html").write_bytes(b"<p>" + part)
    for arguments, stdin in ((["saved.html"], b""), (["-"], part)):
        based = run("survey", *arguments, "--base", HERE, "--json", cwd=tmp_path, stdin=stdin)
        assert [offer["url"] for offer in based.json()["offers"]] == [
            "http://trust.example/hides/2031-05/a.csv", "http://b.example/b.csv",
        ]  # fmt: skip
    bare = run("survey", "saved.html", "--json", cwd=tmp_path)
    assert bare.code == 1
    assert [offer["url"] for offer in bare.json()["offers"]] == ["http://b.example/b.csv"]
    assert "1 of its links are relative, and their base is unknown; give the page's" in bare.err
    as_list = run("survey", "-", cwd=tmp_path, stdin=part)
    assert as_list.code == 3, "what is not markup from its beginning is a list, and says so"


def test_pages_below_a_page_are_looked_into_on_request(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {
        "docs/": Exhibit(b"<a href=one/>1</a><a href=../up/>up</a><a href=a.pdf>a</a>",
                         media_type="text/html"),
        "docs/one/": Exhibit(b"<a href=b.pdf>b</a><a href=../>back</a><a href=two.html>2</a>",
                             media_type="text/html"),
        "docs/one/two.html": Exhibit(b"<a href=/files/c.pdf>c</a>"),
        "up/": Exhibit(script=lambda handler: handler.refuse(500)),
    }  # fmt: skip
    for depth, paths in (
        ("1", ["a.pdf"]),
        ("2", ["a.pdf", "one/b.pdf"]),
        ("all", ["a.pdf", "one/b.pdf", "files/c.pdf"]),
    ):
        found = run(
            "survey", f"{place.base}/docs/", "--depth", depth, "--ext", "pdf", "--json",
            cwd=tmp_path,
        )  # fmt: skip
        assert [offer["path"] for offer in found.json()["offers"]] == paths
        assert found.code == 0, found.err


def test_what_is_no_page_is_a_file_and_what_should_be_is_told(
    tmp_path: Path, place: StandIn
) -> None:
    attachment = Exhibit(script=lambda handler: handler.refuse(
        200, {"Content-Type": "text/html", "Content-Disposition": 'attachment; filename="r.html"'}
    ))  # fmt: skip
    place.exhibits |= {"export": Exhibit(b"a,b\n"), "report": attachment, "x.csv": Exhibit(b"x")}
    place.exhibits["page"] = Exhibit(b"<a href=x.csv>x</a>", media_type="text/html")
    found = run("survey", f"{place.base}/{{export,report,page}}", "--json", cwd=tmp_path)
    assert [offer["path"] for offer in found.json()["offers"]] == ["export", "report", "x.csv"]
    as_file = run("survey", f"{place.base}/page", "--as", "file", "--json", cwd=tmp_path)
    assert [offer["path"] for offer in as_file.json()["offers"]] == ["page"]
    place.exhibits["list.txt"] = Exhibit(f"{place.base}/x.csv\n".encode())
    listed = run("survey", f"{place.base}/list.txt", "--as", "list", "--json", cwd=tmp_path)
    assert [offer["path"] for offer in listed.json()["offers"]] == ["x.csv"]
    feed = run("survey", f"{place.base}/page", "--as", "feed", cwd=tmp_path)
    assert feed.code == 2
    assert f"{place.base}/page: is broken XML" in feed.err


def test_fifty_thousand_links_cost_little(tmp_path: Path, place: StandIn) -> None:
    """Bounded with room to spare for slow machines; the benchmark prints what it really takes."""
    rows = "".join(
        f"<tr><td>{n}<td><a href=levels/{n:05d}.csv>levels {n}</a>" for n in range(50_000)
    )
    place.exhibits["big.html"] = Exhibit(f"<table><tr><th>n<th>file{rows}</table>".encode())
    # The kernel's own figure for a child counts what its parent held when it was started.
    script = (
        "import sys, time; from willow_cart.cli.main import main; code = main(sys.argv[1:]);"
        "sys.stderr.write(f'cpu {time.process_time()}\\n' + open('/proc/self/status').read());"
        "sys.exit(code)"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, "survey", f"{place.base}/big.html", "--csv"],
        cwd=tmp_path, capture_output=True, check=True, text=True,
    )  # fmt: skip
    assert done.stdout.count("\n") == 50_001
    facts = dict(line.split()[:2] for line in done.stderr.splitlines() if len(line.split()) > 1)
    assert int(facts["VmHWM:"]) * 1024 < 150 * 2**20
    assert float(facts["cpu"]) < 20, "as many seconds as a very slow machine may take"


def test_a_page_nested_beyond_the_parser_is_read_all_the_same(
    tmp_path: Path, place: StandIn
) -> None:
    rows = "".join(
        f"<tr><td><font color=red><b><a href='{n}.csv'>Level {n}</a><td>{n}" for n in range(1500)
    )
    place.exhibits["deep.html"] = Exhibit(f"<h2>May</h2><table>{rows}</table>".encode())
    outcome = run("survey", f"{place.base}/deep.html", "--json", cwd=tmp_path)
    offers = outcome.json()["offers"]
    assert [offer["text"] for offer in offers] == [f"Level {n}" for n in range(1500)]
    assert offers[-1]["heading"] == "May"
    place.exhibits["deep.html"] = Exhibit(b"<div>" * 5000 + b"<a href=x.csv>x</a>")
    assert run("survey", f"{place.base}/deep.html", cwd=tmp_path).code == 0
    root = open_page(b"<b>" * 100_000 + b"<a href=y.csv>", HERE).root
    assert root is not None
    assert [a.get("href") for a in root.iter("a")] == ["y.csv"]
    place.exhibits["deep.html"] = Exhibit(b"<div>" * 1500 + b"<a href=x.csv>x</a>")
    assert run("survey", f"{place.base}/deep.html", cwd=tmp_path).code == 0


def test_an_asterisk_in_a_web_address_stands_for_what_its_page_links_to(
    tmp_path: Path, place: StandIn
) -> None:
    links = "".join(
        f"<a href='{name}'>{name}</a>"
        for name in ("level_1.csv", "level_2.csv", "read me.txt", "old/", "level%5B3%5D.csv")
    )
    place.exhibits |= {
        "stat/": Exhibit(f"<html>{links}</html>".encode(), media_type="text/html"),
        "stat/old/": Exhibit(b"<html><a href=level_0.csv>x</a></html>", media_type="text/html"),
        **{f"stat/{name}": Exhibit(b"1\n") for name in ("level_1.csv", "level_2.csv")},
        "stat/old/level_0.csv": Exhibit(b"0\n"),
    }
    done = run("haul", f"{place.base}/stat/level_*.csv", "--into", "d", cwd=tmp_path)
    assert done.code == 0, done.err
    assert files_in(tmp_path / "d") == {"level_1.csv": b"1\n", "level_2.csv": b"1\n"}
    deep = run("survey", f"{place.base}/stat/*/*.csv", cwd=tmp_path)
    assert "1 offer" in deep.out
    assert "old/level_0.csv" in deep.out
    (tmp_path / "list.txt").write_text(f"{place.base}/stat/level_?.csv\n{place.base}/stat/*2.csv\n")
    listed = run("survey", "list.txt", cwd=tmp_path)
    assert "level_2.csv" in listed.out
    none = run("survey", f"{place.base}/stat/levle_*.csv", cwd=tmp_path)
    assert (none.code, "matches nothing; nearby: level_" in none.err) == (3, True), none.err
    literal = run("survey", f"{place.base}/stat/*.csv", "--as", "file", cwd=tmp_path)
    assert "*.csv" in literal.out
    slip = run("haul", f"{place.base}/stat/level_{{1-2}}.csv", "--into", "s", cwd=tmp_path)
    assert (slip.code, "{1-2}: is not a range; did you mean {1..2}?" in slip.err) == (2, True)


NESTED = b"""<h1>Wetland</h1><p><a href="top.csv">all</a>
<h2>Counts</h2><h3>Spring</h3><a href="a.csv">a</a><h3>Autumn</h3><a href="b.csv">b</a>
<h2>Sounds</h2><a href="c.wav">c</a>
<table><tr><th>Hide<th>File<tr><th colspan=2>May<tr><td>alder<td><a href="d.wav">d</a></table>"""


def test_files_are_chosen_and_filed_by_nested_headings_and_rows(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {
        "page.html": Exhibit(NESTED),
        **{
            name: Exhibit(name.encode()) for name in ("top.csv", "a.csv", "b.csv", "c.wav", "d.wav")
        },
    }
    page = f"{place.base}/page.html"
    chosen = {
        "Counts": {"a.csv", "b.csv"},
        "spring": {"a.csv"},
        "S*": {"a.csv", "c.wav", "d.wav"},
        "Wetland": {"top.csv"},
        "May": {"d.wav"},
    }
    for pattern, names in chosen.items():
        told = run("survey", page, "--heading", pattern, "--json", cwd=tmp_path).json()
        assert {offer["path"] for offer in told["offers"]} == names, pattern
    none = run("survey", page, "--heading", "Winter", cwd=tmp_path)
    assert none.code == 3
    assert "headings: Wetland, Counts > Spring, Counts > Autumn, Sounds, Sounds > May" in none.err
    template = "{headings[0]|or top}/{headings[1]|or all}/{row[Hide]|or none}/{name}"
    done = run("haul", page, "--file-as", template, "--into", "d", cwd=tmp_path)
    assert done.code == 0, done.err
    assert set(files_in(tmp_path / "d")) == {
        "Wetland/all/none/top.csv", "Counts/Spring/none/a.csv", "Counts/Autumn/none/b.csv",
        "Sounds/all/none/c.wav", "Sounds/May/alder/d.wav",
    }  # fmt: skip


def test_folders_are_left_out_by_number(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a/b/c.csv"] = Exhibit(b"1")
    haul = ("haul", f"{place.base}/a/b/c.csv", "--keep-folders", "--into", "d")
    assert run(*haul, "--skip-folders", "1", cwd=tmp_path).code == 0
    assert set(files_in(tmp_path / "d")) == {"b/c.csv"}
    slip = run(*haul, "--skip-folders", "1", "--layout", "flat", cwd=tmp_path)
    assert (slip.code, "write {folders[1:]} in --file-as" in slip.err) == (2, True)
