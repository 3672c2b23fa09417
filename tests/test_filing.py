"""Filing: names that are safe everywhere, and one path for one file."""

from __future__ import annotations

import random
import unicodedata
from collections.abc import Iterable
from urllib.parse import quote

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from willow_cart.addresses import normalise
from willow_cart.destination import fold, safe_name, safe_path
from willow_cart.errors import FieldsMissing
from willow_cart.filing import Layout, Plan, Template, make_plan
from willow_cart.model import Offer
from willow_cart.offer_store import OfferStore

# Names as hostile as servers can send them.
nasty = st.text(
    st.one_of(
        st.characters(),
        st.sampled_from('/\\:*?"<>|.\0\n\r\t ~$%\u202e\u200f\u2028é\u0301'),
    )
)
segments = st.one_of(
    nasty,
    st.sampled_from(["..", ".", "", "CON", "nul.txt", "com1", ".willow", ".WILLOW", "...", " "]),
    st.text("ä𝄞x", min_size=80, max_size=300),
)


@given(st.one_of(nasty, segments))
@example("a" * 300 + ".tar.gz")
@example("𝄞" * 100 + ".csv")
@example("e\u0301" * 200)
@example("aux.txt")
@example("\ud800")
def test_a_safe_name_is_safe_on_every_file_system(name: str) -> None:
    safe = safe_name(name)
    assert 0 < len(safe.encode()) <= 255
    assert safe not in (".", "..")
    assert not set(safe) & set('/\\:*?"<>|')
    joiners = "\u200c\u200d"
    assert not any(unicodedata.category(c).startswith("C") for c in safe if c not in joiners)
    assert not safe.endswith((".", " "))
    assert unicodedata.is_normalized("NFC", safe)
    assert safe.partition(".")[0].upper() not in {"CON", "NUL", "AUX", "PRN", "COM1", "LPT9"}
    assert safe.lower() != ".willow"
    assert safe_name(safe) == safe, "what is safe stays as it is"


@given(st.lists(segments).map("/".join))
@example("../../etc/passwd")
@example(".willow/ledger.db")
@example("/absolute")
def test_a_safe_path_never_leads_out_of_the_destination(path: str) -> None:
    parts = safe_path(path).split("/")
    assert parts
    assert all(part not in ("", ".", "..") for part in parts)
    assert parts[0].lower() != ".willow"
    assert safe_path(safe_path(path)) == safe_path(path)


@pytest.mark.parametrize(
    ("name", "safe"),
    [
        ("level_20310501.csv", "level_20310501.csv"),
        ("Überflutung März.csv", "Überflutung März.csv"),
        ("a/b:c.csv", "a_b_c.csv"),
        ("nul.csv", "_nul.csv"),
        ("report.", "report"),
        ("\u202egpj.exe", "gpj.exe"),
        ("", "_"),
        ("e\u0301te\u0301.csv", "été.csv"),
    ],
)
def test_names_are_changed_as_little_as_possible(name: str, safe: str) -> None:
    assert safe_name(name) == safe


def test_a_long_name_keeps_its_extension() -> None:
    safe = safe_name("ö" * 400 + ".tar.gz")
    assert safe.endswith("ö.tar.gz")
    assert len(safe.encode()) <= 255


def offer(address: str, **more: str) -> Offer:
    return Offer(normalise(address), name=more.get("name"), folder=more.get("folder"))


class Filing(dict[str, str]):
    """What is held, as a mapping."""

    def path_of(self, address: str) -> str | None:
        return self.get(address)

    def paths(self) -> Iterable[str]:
        return self.values()


def plan_for(offers: list[Offer], layout: Layout, held: dict[str, str] | None = None) -> Plan:
    return make_plan(OfferStore(offers), layout, Filing(held) if held else None)


def paths(offers: list[Offer], layout: Layout, held: dict[str, str] | None = None) -> list[str]:
    return [filed.path for filed in plan_for(offers, layout, held)]


@pytest.mark.parametrize(
    ("layout", "expected"),
    [
        (Layout.TREE, ["2029/counts.csv", "maps/mere.png"]),
        (Layout.FLAT, ["counts.csv", "mere.png"]),
        (Layout.HOST, ["a.example_8000/2029/counts.csv", "b.example/maps/mere.png"]),
        (Layout.KIND, ["table/counts.csv", "image/mere.png"]),
    ],
)
def test_layouts_give_folders(layout: Layout, expected: list[str]) -> None:
    offers = [
        offer("http://a.example:8000/2029/counts.csv"),
        offer("http://b.example/maps/mere.png"),
    ]
    assert paths(offers, layout) == expected


def test_a_name_and_folder_that_a_person_chose_win() -> None:
    mine = offer("http://a.example/x?id=3", name="../May counts.csv", folder="season/2031")
    assert paths([mine], Layout.TREE) == ["season/2031/.._May counts.csv"]
    assert paths([mine], Layout.FLAT) == [".._May counts.csv"]


@pytest.mark.parametrize(
    ("addresses", "expected"),
    [
        (["http://h/2029/c.csv", "http://h/2030/c.csv"], ["c (2029).csv", "c (2030).csv"]),
        (["http://h/get?id=1", "http://h/get?id=2"], ["get (id=1)", "get (id=2)"]),
        (["http://a/c.csv", "http://b/c.csv"], ["c (a).csv", "c (b).csv"]),
        (["http://h/x/A.csv", "http://h/y/a.csv"], ["A.csv", "a (y).csv"]),
    ],
)
def test_offers_that_want_one_name_are_told_apart_readably(
    addresses: list[str], expected: list[str]
) -> None:
    assert paths([offer(address) for address in addresses], Layout.FLAT) == expected


def test_a_file_does_not_take_the_place_of_a_folder() -> None:
    plan = plan_for([offer("http://h/data"), offer("http://h/data/x.csv")], Layout.TREE)
    file, below = (filed.path for filed in plan)
    assert below == "data/x.csv"
    assert file.startswith("data (")
    assert plan.clashes[0].wanted == "data"


def test_what_is_held_stays_where_it_is_whatever_comes_to_want_its_name() -> None:
    first, second = offer("http://h/2029/c.csv"), offer("http://h/2030/c.csv")
    held = {first.address: "c.csv"}
    plan = plan_for([second, first], Layout.FLAT, held)
    assert [filed.path for filed in plan] == ["c (2030).csv", "c.csv"]
    assert not plan.staying.files
    half_there = plan_for([second, first], Layout.FLAT, {first.address: "c (2029).csv"})
    assert [filed.path for filed in half_there] == ["c (2030).csv", "c (2029).csv"]
    moved = plan_for([first], Layout.KIND, held)
    assert moved.staying.example is not None
    assert moved.staying.example.path == "c.csv"
    assert [filed.path for filed in moved] == ["c.csv"]


addresses = st.builds(
    "http://{}/{}{}".format,
    st.sampled_from(["a.example", "b.example"]),
    st.sampled_from(
        ["c.csv", "C.csv", "x/c.csv", "y/c.csv", "x", "x/c.csv/d", "é.csv", "e%CC%81.csv"]
    ),
    st.sampled_from(["", "?id=1", "?id=2", "?id=%2F"]),
)


@given(st.lists(addresses, max_size=12), st.sampled_from(Layout), st.randoms())
def test_every_file_has_a_path_of_its_own_whatever_the_order(
    listed: list[str], layout: Layout, rng: random.Random
) -> None:
    offers = [offer(address) for address in listed]
    plan = plan_for(offers, layout)
    folded = [fold(filed.path) for filed in plan]
    assert len(set(folded)) == len(folded) == len({each.address for each in offers})
    assert plan.offers.twice == len(offers) - len(folded)
    folders = {path.rpartition("/")[0] for path in folded}
    assert not folders & set(folded)

    shuffled = offers[:]
    rng.shuffle(shuffled)
    again = plan_for(shuffled, layout)
    as_map = {filed.offer.address: filed.path for filed in plan}
    assert as_map == {filed.offer.address: filed.path for filed in again}


# Names as long as servers can send them, in all scripts, that differ at their ends only.
units = ["a", "ö", "湿", "ﬁ", "𝄞", "e\u0301", "क्‍ष", "👩‍🔬", ".", " ", "A"]
long_names = st.builds(
    lambda unit, times, end: (unit * times)[:400] + end,
    st.one_of(st.sampled_from(units), st.text(min_size=1, max_size=4)),
    st.integers(1, 400),
    st.sampled_from(["", "1", "2", ".csv", ".CSV", "1.csv", "2.csv", ".tar.gz", "b", "B", "."]),
)
templates = ["{text}.csv", "{text|lower}", "{kind}/{text:.20}", "{stem}-{number:03d}.{ext|or x}"]
rules = st.one_of(st.sampled_from(Layout), st.sampled_from(templates).map(Template))


@settings(max_examples=300)
@given(
    st.lists(st.tuples(long_names, st.sampled_from(["", "?y=1", "?y=2"]), st.sampled_from("xyX"))),
    rules,
    st.booleans(),
)
@example([("a" * 251 + ".csv", "?y=1", "x"), ("a" * 251 + ".csv", "?y=2", "x")], Layout.TREE, True)
@example([("a" * 290 + "1", "", "x"), ("a" * 290 + "2", "", "x")], Layout.FLAT, False)
def test_paths_are_unique_and_fit_whatever_the_names(
    listed: list[tuple[str, str, str]], rule: Layout | Template, case_sensitive: bool
) -> None:
    offers = []
    for number, (name, query, folder) in enumerate(listed, 1):
        address = f"http://h/{folder}/{quote(name, errors='replace')}{query}"
        offers.append(replace(offer(address), number=number, text=name))
    store = OfferStore(offers)
    try:
        plan = make_plan(store, rule, case_sensitive=case_sensitive)
    except FieldsMissing:
        return  # a text of nothing but spaces says nothing
    found = [filed.path for filed in plan]
    keys = found if case_sensitive else [fold(path) for path in found]
    assert len(set(keys)) == len(store)
    assert all(len(part.encode()) <= 255 for path in found for part in path.split("/"))
    assert all(safe_path(path) == path for path in found)
    assert not {key.rpartition("/")[0] for key in keys} & set(keys)

    # What an earlier haul filed stays, and nothing else gets its path.
    held = {filed.offer.address: filed.path for filed in plan}
    half = Filing(dict(list(held.items())[::2]))
    again = make_plan(OfferStore(offers), rule, half, case_sensitive=case_sensitive)
    found = [filed.path for filed in again]
    assert len(set(found if case_sensitive else map(fold, found))) == len(store)


def test_names_that_differ_in_case_only_are_kept_where_the_file_system_tells_them_apart() -> None:
    listed = [offer("http://h:81/Level.csv"), offer("http://h:81/level.csv")]
    apart = make_plan(OfferStore(listed), Layout.TREE, case_sensitive=True)
    assert [filed.path for filed in apart] == ["Level.csv", "level.csv"]
    first, second = (filed.path for filed in make_plan(OfferStore(listed), Layout.TREE))
    assert first == "Level.csv"
    elsewhere = [offer("http://other:9999/Level.csv"), offer("http://other:9999/level.csv")]
    assert [first, second] == [
        filed.path for filed in make_plan(OfferStore(elsewhere), Layout.TREE)
    ]


@pytest.mark.parametrize("name", ["👩‍🔬 notes.csv", "نمی‌خواهم.txt", "क्‍ष.csv"])
def test_joiners_that_make_a_character_are_kept(name: str) -> None:
    assert safe_name(name) == name


@pytest.mark.parametrize("name", ["a\u200db.csv", "\u200dx.csv", "é\u200d.csv", "é\u200d\u202eé"])
def test_other_joiners_are_left_out(name: str) -> None:
    assert "\u200d" not in safe_name(name)
