"""Choosing: one value, the same everywhere."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

import pytest
from msgspec.structs import replace

from willow_cart.choosing import Choosing
from willow_cart.errors import BadOption, NothingChosen
from willow_cart.kinds import extension_of, kind_of
from willow_cart.model import Cell, Offer
from willow_cart.options.groups import Unknown
from willow_cart.options.readers import parse_when

PATHS = (
    "levels/2031-05/level_20310501.csv",
    "levels/2031-05/level_20310502.csv",
    "levels/2031-06/level_20310601.CSV",
    "recordings/dawn.wav",
    "seasons/2029.tar.gz",
    "readme",
)
OFFERS = [Offer(f"http://trust.example/{path}", number=n) for n, path in enumerate(PATHS, 1)]


def chosen(**rules: object) -> list[int]:
    choosing = replace(Choosing(), **rules)
    return [offer.number for offer in choosing.choose(OFFERS).chosen]


@pytest.mark.parametrize(
    ("rules", "numbers"),
    [
        ({}, [1, 2, 3, 4, 5, 6]),
        ({"ext": ("csv",)}, [1, 2, 3]),
        ({"ext": (".CSV", "tar.gz")}, [1, 2, 3, 5]),
        ({"ext": ("gz",)}, []),
        ({"keep": ("level_*.csv",)}, [1, 2]),
        ({"keep": ("level_2031050[12].*",)}, [1, 2]),
        ({"keep": ("level_2031050[!1].*",)}, [2]),
        ({"keep": ("level_203105??.csv", "dawn*")}, [1, 2, 4]),
        ({"keep": ("*/dawn.wav",)}, [4]),
        ({"keep": ("levels/*",)}, []),
        ({"keep": ("levels/**",)}, [1, 2, 3]),
        ({"keep": ("**/2031-05/*",)}, [1, 2]),
        ({"keep": ("levels/2031-0?/*",)}, [1, 2, 3]),
        ({"keep": ("/recordings/*",)}, [4]),
        ({"drop": ("*.wav", "readme")}, [1, 2, 3, 5]),
        ({"keep_re": (r"2031-0[56]/.*01\.",)}, [1, 3]),
        ({"drop_re": (r"^levels/", "gz$")}, [4, 6]),
        ({"keep": ("level*",), "drop": ("*02.csv",), "first": 1}, [1]),
        ({"first": 2}, [1, 2]),
        ({"keep": ("[",)}, []),
        ({"kind": ("sound", "archive")}, [4, 5]),
        ({"kind": ("other",)}, [6]),
        ({"nth": "1/3"}, [1, 4]),
        ({"nth": "2/2", "ext": ("csv",)}, [2]),
        ({"after_name": "level_20310501.csv"}, [2, 3, 6]),
        ({"after_name": "/levels/2031-05/level_20310501.csv"}, [2, 3, 4, 5, 6]),
    ],
)
def test_rules_keep_what_their_table_says(rules: dict[str, object], numbers: list[int]) -> None:
    assert chosen(**rules) == numbers


MAY = datetime(2031, 5, 10, tzinfo=UTC)
KNOWN = [
    Offer("http://h/a", number=1, size=500, modified=MAY),
    Offer("http://h/b", number=2, size=5_000_000, modified=MAY + timedelta(days=1)),
    Offer("http://h/c", number=3, about=1000, text="Dawn chorus", cell=Cell(1, 1, 2, "Sound")),
    Offer("http://h/d", number=4, about=5_000_000, text="N/A", cell=Cell(1, 2, 3, "Map (old)")),
    Offer("http://h/e", number=5, text="dawn"),
]


@pytest.mark.parametrize(
    ("rules", "numbers", "unknown"),
    [
        ({"since": MAY}, [1, 2, 3, 4, 5], 3),
        ({"since": MAY, "undated": Unknown.DROP}, [1, 2], 3),
        ({"until": MAY, "undated": Unknown.DROP}, [1], 3),
        ({"since": MAY, "until": MAY, "undated": Unknown.DROP}, [1], 3),
        ({"at_least": 1000}, [2, 3, 4, 5], 2),
        ({"at_least": 1000, "unsized": Unknown.DROP}, [2, 4], 2),
        ({"at_least": 900_000, "unsized": Unknown.DROP}, [2, 4], 1),
        ({"at_most": 900_000, "unsized": Unknown.DROP}, [1, 3], 1),
        ({"at_most": 500, "at_least": 500, "unsized": Unknown.DROP}, [1], 2),
        ({"link_text": ("dawn*",)}, [3, 5], 0),
        ({"link_text": ("n/?",)}, [4], 0),
        ({"column": "2"}, [3], 0),
        ({"column": "map*"}, [4], 0),
    ],
)
def test_what_is_not_known_is_counted_and_neither_kept_nor_dropped_unsaid(
    rules: dict[str, object], numbers: list[int], unknown: int
) -> None:
    choice = replace(Choosing(), **rules).choose(KNOWN)
    assert [offer.number for offer in choice.chosen] == numbers
    assert choice.undated + choice.unsized == unknown


def test_places_are_asked_as_late_and_as_little_as_can_be() -> None:
    asked: list[list[int]] = []

    def learn(offers: Sequence[Offer]) -> list[Offer]:
        asked.append([offer.number for offer in offers])
        return [replace(offer, size=2000, modified=MAY) for offer in offers]

    choice = Choosing(drop=("e",), at_least=1000, first=2).choose(KNOWN, learn)
    assert [(offer.number, offer.size) for offer in choice.chosen] == [(2, 5_000_000), (3, 2000)]
    assert asked == [[3]], "neither what is dropped, nor what is known well enough"
    asked.clear()
    Choosing(first=3).choose(KNOWN, learn)
    assert asked == [[3]], "without a rule on sizes only what is chosen is asked about"
    asked.clear()
    choice = Choosing(since=MAY, drop=("e",), undated=Unknown.DROP).choose(KNOWN, learn)
    assert asked == [[3, 4]]
    assert (choice.kept, choice.undated) == (4, 0)


def test_choosing_holds_nothing_and_says_what_dropped_each() -> None:
    count = 5000
    coming = (Offer(f"http://h/{n}.{'csv' if n % 2 else 'txt'}") for n in range(count))
    choosing = Choosing(ext=("csv",), first=10)
    choice = choosing.begin()
    judged = choosing.judge(coming, choice)
    assert next(judged)[1] == "--ext csv"
    assert next(judged)[1] == ""
    assert choice.offered < count
    rest = [rule for _, rule in judged]
    # What is listed already is judged; a long listing is not read on for what cannot be kept.
    assert rest.count("--first 10") == choice.offered // 2 - 10
    assert (choice.kept, choice.chosen, choice.ended_by) == (10, [], "--first 10")
    assert choice.offered < count // 2


NOW = datetime(2031, 6, 1, 12, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "moment", "end"),
    [
        ("2031-05-01", "2031-05-01T00:00:00+00:00", "2031-05-01T23:59:59.999999+00:00"),
        ("2031-05-01T06:00Z", "2031-05-01T06:00:00+00:00", None),
        ("2031-05-01 06:00+02:00", "2031-05-01T06:00:00+02:00", None),
        ("5d", "2031-05-27T12:00:00+00:00", None),
        ("24h", "2031-05-31T12:00:00+00:00", None),
        ("90min", "2031-06-01T10:30:00+00:00", None),
        ("2 w", "2031-05-18T12:00:00+00:00", None),
    ],
)
def test_moments_are_read_as_people_write_them(text: str, moment: str, end: str | None) -> None:
    assert parse_when(text, NOW).isoformat() == moment
    assert parse_when(text, NOW, whole_day=True).isoformat() == (end or moment)


@pytest.mark.parametrize("text", ["", "May", "2031-13-01", "5", "5m", "999999w", "01/05/2031"])
def test_what_is_no_moment_is_told(text: str) -> None:
    with pytest.raises(BadOption, match="not a date or time"):
        parse_when(text, NOW)


def test_an_empty_choice_names_the_rule_that_emptied_it_and_what_there_was() -> None:
    choice = Choosing(ext=("csv",), keep=("dawn*",), first=3).choose(OFFERS)
    with pytest.raises(NothingChosen) as caught:
        choice.require_some()
    assert caught.value.rule == "--keep dawn*"
    assert caught.value.offered == 6
    assert "excluded the 3 offers that the other rules left" in str(caught.value)
    assert "2 csv" in str(caught.value) or "3 csv" in str(caught.value)


def test_nothing_offered_is_told_apart_from_nothing_chosen() -> None:
    with pytest.raises(NothingChosen, match="the source lists none") as caught:
        Choosing(keep=("*",)).choose([]).require_some()
    assert caught.value.rule is None


@pytest.mark.parametrize(
    "rules",
    [
        {"keep_re": ("(",)},
        {"first": 0},
        {"keep": ("[z-a]",)},
        {"link_text": ("[z-a]",)},
        {"kind": ("tables",)},
        {"nth": "0/3"},
        {"nth": "4/3"},
        {"nth": "third"},
        {"since": MAY, "until": MAY - timedelta(days=1)},
        {"at_least": 2, "at_most": 1},
    ],
)
def test_a_slip_in_a_rule_is_told_before_any_work(rules: dict[str, object]) -> None:
    with pytest.raises(BadOption):
        replace(Choosing(), **rules)


@pytest.mark.parametrize(
    ("name", "extension", "kind"),
    [
        ("a.CSV", "csv", "table"),
        ("a.tar.gz", "tar.gz", "archive"),
        ("a.csv.gz", "gz", "archive"),
        (".profile", "", "other"),
        ("no extension. At all", "", "other"),
        ("song.mp3", "mp3", "sound"),
        ("x.", "", "other"),
        ("map.gpkg", "gpkg", "map"),
    ],
)
def test_extensions_and_families(name: str, extension: str, kind: str) -> None:
    assert (extension_of(name), kind_of(name)) == (extension, kind)
