"""Templates: where files go, as people write it down; and what is shown before any is fetched."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.destination import safe_path
from willow_cart.errors import BadOption
from willow_cart.filing import Layout, Template
from willow_cart.filing.templates import FieldMissing
from willow_cart.model import Cell, Offer

LEVEL = Offer(
    "http://h.example:8000/archive/2031/Level_20310501.CSV?lang=en%2Fgb&token=secret",
    source="http://h.example:8000/archive/",
    number=7,
    modified=datetime(2031, 6, 1, 1, tzinfo=timezone(timedelta(hours=2))),
    text="Wasserstände, Mai",
    title="all gauges",
    headings=("Gauges", "2031", "May / June"),
    cell=Cell(1, 1, 2, "File", (("Gauge", "mere / outlet"), ("File", "level"))),
)

PARTS = r"(?i)level_(?P<year>\d{4})(?P<month>\d\d)(?P<day>\d\d)"


@pytest.mark.parametrize(
    ("template", "path"),
    [
        ("{name}", "Level_20310501.CSV"),
        ("{stem}-{number:04d}.{ext}", "Level_20310501-0007.csv"),
        ("{kind}/{host}/{name}", "table/h.example:8000/Level_20310501.CSV"),
        ("{folder}/{stem|lower}", "archive/2031/level_20310501"),
        ("{folders[0]}+{folders[-1]}+{path[-2]}", "archive+2031+2031"),
        ("{folders[1:]}/{path[:-2]}/{folders[5:]}", "2031/archive/"),
        ("{headings[0]}/{headings[-1]}/{headings[1:]}", "Gauges/May _ June/2031/May _ June"),
        ("{row[gauge]}/{row[None]|or none}", "mere _ outlet/none"),
        ("{folders[1:2:3]}", None),
        ("{row}", None),
        ("{source}/{title|dashed}", "archive/all-gauges"),
        ("{modified:%Y-%m}/{modified}", "2031-05/2031-05-31"),
        ("{fetched:%d.%m.}{name:.5}", "04.03.Level"),
        ("{heading}/{text|plain|lower}", "May _ June/wasserstande-mai"),
        ("{text|plain:.8}", "Wasserst"),
        ("{text:.6|}", None),
        ("{query[lang]}", "en_gb"),
        ("{year}/{month:02d}/{day:d}", "2031/05/1"),
        ("{{{year}}}", "{2031}"),
        ("{query[none]|or English}", "English"),
    ],
)
def test_fields_say_what_is_known_of_an_offer(template: str, path: str | None) -> None:
    if path is None:
        with pytest.raises(BadOption):
            Template(template, PARTS)
        return
    now = datetime(2032, 3, 4, tzinfo=UTC)
    assert Template(template, PARTS, now).wish_for(LEVEL) == path


@pytest.mark.parametrize(
    ("field", "offer"),
    [
        ("{modified:%Y}", Offer("http://h/x.csv")),
        ("{heading}", Offer("http://h/x.csv")),
        ("{text|plain}", Offer("http://h/x.csv", text="《》")),
        ("{ext}", Offer("http://h/x")),
        ("{folders[0]}", Offer("http://h/x.csv")),
        ("{year}", Offer("http://h/x.csv")),
        ("{query[lang]}", Offer("http://h/x.csv?lang=")),
    ],
)
def test_what_is_not_known_is_no_empty_name(field: str, offer: Offer) -> None:
    with pytest.raises(FieldMissing) as caught:
        Template(f"{field}/{{name}}", PARTS).wish_for(offer)
    name = field.strip("{}").partition(":")[0]
    assert caught.value.args == (name.partition("|")[0],)
    filled = f"{{{name}|or none}}/{{name}}"
    assert Template(filled, PARTS).wish_for(offer) == f"none/{offer.file_name}"


def test_no_secret_of_an_address_gets_into_a_name() -> None:
    assert "secret" not in Template("{query[token]}").wish_for(LEVEL)


@pytest.mark.parametrize(
    ("template", "why"),
    [
        ("{nam}", "{nam}: not a field; fields are name, stem, "),
        ("{name.__class__}", "not a field"),
        ("{name[0]}", "not a field"),
        ("{folders}", "not a field"),
        ("{number:zz}", "{number:zz}: cannot be written as zz"),
        ("{name|shout}", "has no filter shout; filters are lower, plain, dashed, or WORD"),
        ("{name!r}", "{name!r}: has a conversion"),
        ("{name:{number}}", "has a conversion or braces in it"),
        ("{name", "cannot be read"),
        ("", "gives no name; write {name}"),
    ],
)
def test_a_template_that_cannot_be_understood_is_told(template: str, why: str) -> None:
    with pytest.raises(BadOption) as caught:
        Template(template)
    assert why in str(caught.value)


def test_a_name_without_a_field_is_for_one_file(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {name: Exhibit(name.encode()) for name in ("a.csv", "b.csv")}
    haul = ["haul", "--into", "d", "--file-as", "x/latest.csv"]
    one = run(*haul, f"{place.base}/a.csv", cwd=tmp_path)
    assert (one.code, files_in(tmp_path / "d")) == (0, {"x/latest.csv": b"a.csv"})
    several = run(*haul, f"{place.base}/{{a,b}}.csv", cwd=tmp_path)
    why = "x/latest.csv: has no field, so all 2 files would have the same name; add {name}"
    assert (several.code, why in several.err) == (2, True)


@pytest.mark.parametrize("parts", ["(", "level", "(?P<name>x)", "(?P<fetched>x)"])
def test_name_parts_that_give_no_field_are_told(parts: str) -> None:
    with pytest.raises(BadOption):
        Template("{name}", parts)


words = st.text(st.characters() | st.sampled_from("/.\\{}|:%"), max_size=20)


@given(st.builds(Offer, st.just("http://h/a/b.csv"), headings=st.tuples(words), text=words,
                 title=words,
                 name=st.none() | words.filter(bool), folder=st.none() | words))  # fmt: skip
def test_no_word_of_a_page_leads_anywhere_else(offer: Offer) -> None:
    template = Template("in/{heading|or x}/{text|plain|or x}/{title|lower|or x}/{name}")
    parts = template.wish_for(offer).split("/")
    assert len(parts) == 5, "only the template makes folders"
    assert all(parts), "and none without a name"
    assert ".." not in safe_path(template.wish_for(offer)).split("/")
    for layout in Layout:
        assert layout.wish_for(offer) == layout.template.wish_for(offer).removeprefix("/")


def test_files_go_where_the_template_says(tmp_path: Path, place: StandIn) -> None:
    for day in ("0501", "0502", "0601"):
        place.exhibits[f"deep/level_2031{day}.csv"] = Exhibit(day.encode())
    addresses = [f"{place.base}/{path}" for path in place.exhibits]
    rule = ["--file-as", "{year}-{month}/{stem}.{ext}", "--name-parts", PARTS]
    shown = run("haul", *addresses, "--into", "data", *rule, "--preview", cwd=tmp_path)
    assert shown.code == 0
    assert shown.out == (
        "data/  3 files, ?\n"
        "├── 2031-05/  2 files, ?\n"
        "│   ├── level_20310501.csv  ?\n"
        "│   └── level_20310502.csv  ?\n"
        "└── 2031-06/  1 file, ?\n"
        "    └── level_20310601.csv  ?\n"
        "\n"
        "3 files, 3 sizes unknown; nothing was fetched\n"
    )
    assert not place.requests, "a preview asks for no file"
    assert not (tmp_path / "data").exists()
    assert run("haul", *addresses, "--into", "data", *rule, cwd=tmp_path).code == 0
    assert files_in(tmp_path / "data") == {
        "2031-05/level_20310501.csv": b"0501",
        "2031-05/level_20310502.csv": b"0502",
        "2031-06/level_20310601.csv": b"0601",
    }
    again = run("haul", *addresses, "--into", "data", "--preview", cwd=tmp_path)
    assert "3 files from an earlier haul in another layout stay in place" in again.err
    assert again.out.endswith("3 of them already hauled; nothing was fetched\n")


def test_a_field_that_some_files_lack_is_told_before_any_is_fetched(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {"level_20310501.csv": Exhibit(b"x"), "notes.csv": Exhibit(b"y")}
    addresses = [f"{place.base}/{path}" for path in place.exhibits]
    haul = ["haul", *addresses, "--into", "data", "--name-parts", PARTS, "--file-as"]
    outcome = run(*haul, "{year}/{name}", cwd=tmp_path)
    assert outcome.code == 2
    assert outcome.err == (
        f"willow-cart: {{year}}: has no value for 1 of 2 files, such as {place.base}/notes.csv;"
        " write {year|or WORD}, or exclude these files\n"
    )
    assert not place.requests
    assert files_in(tmp_path) == {}
    assert run(*haul, "{year|or other}/{name}", cwd=tmp_path).code == 0
    assert set(files_in(tmp_path / "data")) == {"2031/level_20310501.csv", "other/notes.csv"}


def test_layouts_by_month_and_heading(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"a.csv": Exhibit(b"a"), "b.csv": Exhibit(b"b")}
    page = b"<h2>May</h2><a href=a.csv>a</a><h2>June</h2><a href=b.csv>b</a>"
    place.exhibits["list.html"] = Exhibit(page, media_type="text/html")
    for layout, folders in (("heading", {"May", "June"}), ("month", {"undated"})):
        haul = ["haul", f"{place.base}/list.html", "--into", layout, "--layout", layout]
        assert run(*haul, cwd=tmp_path).code == 0
        assert {path.partition("/")[0] for path in files_in(tmp_path / layout)} == folders


def test_options_for_filing_that_fight_are_told(tmp_path: Path) -> None:
    lonely = run("haul", "x", "--into", "y", "--name-parts", PARTS, cwd=tmp_path)
    assert lonely.code == 2
    assert "--name-parts: requires --file-as" in lonely.err
    both = run("haul", "x", "--into", "y", "--layout", "flat", "--file-as", "{name}", cwd=tmp_path)
    assert both.code == 2


def test_names_are_found_where_addresses_have_none(tmp_path: Path, place: StandIn) -> None:
    def attached(handler: StandInHandler) -> None:
        fields = {"Content-Length": "3", "Content-Disposition": "attachment; filename=../May.csv"}
        handler.start(200, fields)
        if handler.command == "GET":
            handler.wfile.write(b"may")

    place.exhibits["get?id=5"] = Exhibit(script=attached)
    place.exhibits["export.php?day=1&format=csv"] = Exhibit(b"one")
    place.exhibits["export.php?day=2&format=csv"] = Exhibit(b"two")
    addresses = [f"{place.base}/{path}" for path in place.exhibits]
    assert run("haul", *addresses, "--into", "data", "--ask-sizes", cwd=tmp_path).code == 0
    assert files_in(tmp_path / "data") == {
        "May.csv": b"may",
        "export (day=1&format=csv).csv": b"one",
        "export (day=2&format=csv).csv": b"two",
    }
