"""Refiling: all or nothing, whatever ends it, and later hauls find everything."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.support.program import files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.destination import Destination
from willow_cart.errors import CannotStore
from willow_cart.hauling.refiling import refile
from willow_cart.hauling.run import haul_offers
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.model import Offer
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer.policy import HaulPolicy

FILES = {
    f"http://h.example/{name}": name.encode() for name in ("a/one", "a/two", "b/three", "four")
}
BEFORE = {"a/one": b"a/one", "a/two": b"a/two", "b/three": b"b/three", "four": b"four"}
# Two change names, one goes where a folder was, one into a new folder.
AFTER = {"a/two": b"a/one", "a/one": b"a/two", "b": b"b/three", "new/four": b"four"}


class _Turned:
    """A rule that gives every file the place that another had."""

    def wish_for(self, offer: Offer) -> str:
        content = FILES[offer.address]
        return next(path for path, expected in AFTER.items() if expected == content)


@pytest.fixture
def home(tmp_path: Path) -> Path:
    access = FakeAccess({address: FakeFile(content) for address, content in FILES.items()})
    haul_offers(map(Offer, FILES), tmp_path, access, HaulPolicy())
    assert files_in(tmp_path) == BEFORE
    return tmp_path


def in_ledger(home: Path) -> set[str]:
    with Ledger(ledger_path(home)) as ledger:
        assert ledger.moves() == []
        return {arrival.path for arrival in ledger.latest_arrivals()}


def test_files_change_places_and_the_ledger_knows(home: Path) -> None:
    found = refile(home, _Turned())
    assert (len(found.moves), found.staying) == (4, [])
    assert files_in(home) == AFTER
    assert in_ledger(home) == set(AFTER)
    assert sorted(path.name for path in home.iterdir()) == [".willow", "a", "b", "new"]
    assert refile(home, _Turned()).moves == []


class _Killed(BaseException):
    pass


def after(count: int, error: BaseException, patch: pytest.MonkeyPatch) -> None:
    """Let an error come in the place of the next thing that is done to a file."""
    left = [count]

    def counting(do: Callable[..., None]) -> Callable[..., None]:
        def step(*what: Any) -> None:
            if not left[0]:
                patch.undo()
                raise error
            left[0] -= 1
            do(*what)

        return step

    for name in ("take_away", "place", "sync_folders"):
        patch.setattr(Destination, name, counting(getattr(Destination, name)))


@pytest.mark.parametrize("steps", range(11))
def test_whatever_ends_it_the_next_haul_goes_on(
    home: Path, steps: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    after(steps, _Killed(), monkeypatch)
    if steps < 10:
        with pytest.raises(_Killed):
            refile(home, _Turned())
    else:
        refile(home, _Turned())
    monkeypatch.undo()
    access = FakeAccess({address: FakeFile(content) for address, content in FILES.items()})
    account = haul_offers(map(Offer, FILES), home, access, HaulPolicy())
    assert account.exit_code == 0
    assert files_in(home) == AFTER
    assert in_ledger(home) == set(AFTER)
    assert not list((home / ".willow").glob("mov*"))


@pytest.mark.parametrize("steps", range(9))
def test_what_cannot_be_moved_moves_nothing(
    home: Path, steps: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    after(steps, CannotStore("x", "the disk is full"), monkeypatch)
    with pytest.raises(CannotStore):
        refile(home, _Turned())
    assert files_in(home) == BEFORE
    assert in_ledger(home) == set(BEFORE)
    assert not list((home / ".willow").glob("mov*"))


def test_what_an_earlier_one_has_left_does_not_speak_for_this_one(home: Path) -> None:
    left = home / ".willow" / "moved"
    left.mkdir()
    (left / "something").write_bytes(b"?")
    with pytest.raises(CannotStore, match="contains files that are in no ledger"):
        refile(home, _Turned())
    assert files_in(home) == BEFORE
    (left / "something").unlink()
    refile(home, _Turned())
    assert files_in(home) == AFTER
    assert in_ledger(home) == set(AFTER)


def test_a_month_is_refiled_and_hauled_again(tmp_path: Path, place: StandIn) -> None:
    for day in ("0501", "0601"):
        place.exhibits[f"deep/level_2031{day}.csv"] = Exhibit(day.encode())
    haul = [
        "haul",
        *(f"{place.base}/{path}" for path in place.exhibits),
        "--into",
        "data",
        "--keep-folders",
    ]
    assert run(*haul, cwd=tmp_path).code == 0
    rule = ["--file-as", "{month}/{name}", "--name-parts", r"_2031(?P<month>\d\d)"]
    shown = run("refile", "data", *rule, "--preview", cwd=tmp_path)
    assert "2 files: 2 to move; nothing was moved\n" in shown.out
    assert "05/  1 file, 4 B" in shown.out
    assert set(files_in(tmp_path / "data")) == set(place.exhibits)
    assert run("refile", "data", *rule, cwd=tmp_path).out == "2 files: 2 moved\n"
    filed = {"05/level_20310501.csv": b"0501", "06/level_20310601.csv": b"0601"}
    assert files_in(tmp_path / "data") == filed
    again = run(*haul, cwd=tmp_path)
    assert "all unchanged" in again.out
    assert files_in(tmp_path / "data") == filed
    assert run("audit", "data", cwd=tmp_path).code == 0


def test_what_is_the_person_s_is_left_alone(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"a/one.csv": Exhibit(b"1"), "a/two.csv": Exhibit(b"2")}
    haul = [
        "haul",
        *(f"{place.base}/{path}" for path in place.exhibits),
        "--into",
        "data",
        "--keep-folders",
    ]
    assert run(*haul, cwd=tmp_path).code == 0
    (tmp_path / "data" / "one.csv").write_bytes(b"mine")
    stopped = run("refile", "data", "--layout", "flat", cwd=tmp_path)
    assert (stopped.code, stopped.err) == (
        1, "willow-cart: one.csv: blocks a/one.csv; move it, or use another layout\n"
    )  # fmt: skip
    assert set(files_in(tmp_path / "data")) == {"one.csv", "a/one.csv", "a/two.csv"}
    (tmp_path / "data" / "a" / "one.csv").write_bytes(b"changed")
    stays = run("refile", "data", "--layout", "flat", cwd=tmp_path)
    assert (stays.code, stays.out) == (1, "1 file: 1 moved\n")
    assert "a/one.csv: missing or changed; not moved" in stays.err
    assert files_in(tmp_path / "data") == {
        "one.csv": b"mine", "a/one.csv": b"changed", "two.csv": b"2"
    }  # fmt: skip
    nothing = run("refile", ".", "--layout", "flat", cwd=tmp_path)
    assert nothing.code == 2
    assert not (tmp_path / ".willow").exists()


def test_without_a_rule_nothing_is_moved(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a/b.csv"] = Exhibit(b"1")
    haul = ("haul", f"{place.base}/a/b.csv", "--into", "d", "--layout", "kind")
    assert run(*haul, cwd=tmp_path).code == 0
    before = files_in(tmp_path / "d")
    shown = run("refile", "d", cwd=tmp_path)
    assert (shown.code, files_in(tmp_path / "d")) == (2, before)
    assert "no --layout or --file-as given, so nothing was moved" in shown.err
    assert "1 to move" in shown.out
