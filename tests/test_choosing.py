"""Choosing: one value, the same everywhere."""

from __future__ import annotations

from dataclasses import replace

import pytest

from willow_cart.choosing import Choosing
from willow_cart.errors import BadOption, NothingChosen
from willow_cart.kinds import extension_of, kind_of
from willow_cart.model import Offer

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
    choosing = replace(Choosing(), **rules)  # type: ignore[arg-type]
    return [offer.number for offer in choosing.choose(OFFERS).chosen]


@pytest.mark.parametrize(
    ("rules", "numbers"),
    [
        ({}, [1, 2, 3, 4, 5, 6]),
        ({"extensions": ("csv",)}, [1, 2, 3]),
        ({"extensions": (".CSV", "tar.gz")}, [1, 2, 3, 5]),
        ({"extensions": ("gz",)}, []),
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
    ],
)
def test_rules_keep_what_their_table_says(rules: dict[str, object], numbers: list[int]) -> None:
    assert chosen(**rules) == numbers


def test_an_empty_choice_names_the_rule_that_emptied_it_and_what_there_was() -> None:
    choice = Choosing(extensions=("csv",), keep=("dawn*",), first=3).choose(OFFERS)
    with pytest.raises(NothingChosen) as caught:
        choice.require_some()
    assert caught.value.rule == "--keep dawn*"
    assert caught.value.offered == 6
    assert "left none of 3 offers" in str(caught.value)
    assert "2 csv" in str(caught.value) or "3 csv" in str(caught.value)


def test_nothing_offered_is_told_apart_from_nothing_chosen() -> None:
    with pytest.raises(NothingChosen, match="hold no address") as caught:
        Choosing(keep=("*",)).choose([]).require_some()
    assert caught.value.rule is None


@pytest.mark.parametrize("rules", [{"keep_re": ("(",)}, {"first": 0}, {"keep": ("[z-a]",)}])
def test_a_slip_in_a_rule_is_told_before_any_work(rules: dict[str, object]) -> None:
    with pytest.raises(BadOption):
        replace(Choosing(), **rules)  # type: ignore[arg-type]


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
