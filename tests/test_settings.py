"""Settings: which of them count, and where each comes from."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.support.program import Outcome, files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn


@pytest.fixture
def place_with_files(place: StandIn) -> StandIn:
    place.exhibits |= {"x/a.csv": Exhibit(b"a"), "x/b.bin": Exhibit(b"b")}
    return place


class Person:
    """Somebody with settings of their own, in a project with others."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.own = folder / "config" / "willow-cart" / "config.toml"
        self.own.parent.mkdir(parents=True)
        self.project = folder / "willow-cart.toml"

    def run(self, *arguments: str | Path) -> Outcome:
        env = {"XDG_CONFIG_HOME": str(self.own.parent.parent)}
        return run(*arguments, cwd=self.folder, env=env)


def test_typed_comes_before_project_before_own(tmp_path: Path, place_with_files: StandIn) -> None:
    person = Person(tmp_path)
    person.own.write_text('[haul]\nlanes = 2\n[filing]\nlayout = "flat"\n[connecting]\n')
    haul = ["haul", f"{place_with_files.base}/x/", "--into"]
    assert person.run(*haul, "own").code == 0
    assert set(files_in(tmp_path / "own")) == {"a.csv", "b.bin"}
    person.project.write_text('[filing]\nfile_as = "{kind}/{name}"\n[haul]\nlargest = "10MB"\n')
    assert person.run(*haul, "project").code == 0
    assert set(files_in(tmp_path / "project")) == {"table/a.csv", "other/b.bin"}
    assert person.run(*haul, "typed", "--layout", "host").code == 0
    host = place_with_files.base.removeprefix("http://").replace(":", "_")
    assert set(files_in(tmp_path / "typed")) == {f"{host}/a.csv", f"{host}/b.bin"}
    # What settings are is not written down as typed.
    assert "flat" not in person.run("receipt", "own").out
    shown = person.run("settings")
    assert shown.out.splitlines()[1:5] == [
        f"haul     lanes     2               {person.own}, line 2",
        "haul     largest   10MB            willow-cart.toml, line 4",
        "filing   file_as   {kind}/{name}   willow-cart.toml, line 2",
        f"filing   layout    flat            {person.own}, line 4",
    ]
    every = {(each["table"], each["key"]): each for each in
             person.run("settings", "--all", "--json").json()}  # fmt: skip
    assert every["haul", "attempts"] == {
        "table": "haul", "key": "attempts", "value": 5, "from": "default"
    }  # fmt: skip
    assert every["haul", "lanes"]["value"] == 2


def test_an_errand_comes_before_its_project(tmp_path: Path, place_with_files: StandIn) -> None:
    person = Person(tmp_path)
    person.project.write_text('[filing]\nlayout = "kind"\n')
    source = f'into = "d"\n[[source]]\nfrom = "{place_with_files.base}/x/"\n'
    (tmp_path / "job.toml").write_text(source)
    assert person.run("errand", "job.toml").code == 0
    assert set(files_in(tmp_path / "d")) == {"table/a.csv", "other/b.bin"}
    (tmp_path / "job.toml").write_text(source.replace('"d"', '"e"') + '[filing]\nlayout = "flat"\n')
    assert person.run("errand", "job.toml").code == 0
    assert set(files_in(tmp_path / "e")) == {"a.csv", "b.bin"}


@pytest.mark.parametrize(
    ("own", "project", "told"),
    [
        ("[haul]\nlnes = 2\n", "", "config.toml, line 2, lnes: unknown key in [haul]; did you"),
        ("[hauling]\n", "", "config.toml, hauling: unknown key"),
        ("[haul\n", "", "config.toml, line 1: not valid TOML: "),
        ("haul = 3\n", "", "config.toml, line 1, haul: not a table; write [haul]"),
        ("[haul]\nlanes = 'x'\n", "", "config.toml, lanes: x is not a whole number from 1 up"),
        (
            "",
            "[haul]\non_arrival = 'sh {path}'\n",
            "line 2, on_arrival: not allowed in a project file",
        ),
        (
            "",
            "[connecting]\nca = 'x.pem'\n",
            "willow-cart.toml, [connecting]: not allowed in a project file",
        ),
        ("", "[sign_in.x]\n", "willow-cart.toml, sign_in: unknown key"),
    ],
)
def test_slips_are_told_before_anything_is_asked(
    own: str, project: str, told: str, tmp_path: Path, place_with_files: StandIn
) -> None:
    person = Person(tmp_path)
    person.own.write_text(own)
    person.project.write_text(project)
    done = person.run("haul", f"{place_with_files.base}/x/", "--into", "d")
    assert (done.code, told in done.err, done.err.count("\n")) == (2, True, 1), done.err
    assert place_with_files.requests == []
    assert not (tmp_path / "d").exists()


def test_settings_reach_every_command_that_reaches(tmp_path: Path, place: StandIn) -> None:
    person = Person(tmp_path)
    person.own.write_text('[connecting]\nca = "none.pem"\n[haul]\nlanes = 2\n')
    for command in (["survey"], ["knock"], ["load", "--cart", "c.csv"]):
        done = person.run(*command, f"{place.base}/a.csv")
        assert (done.code, "--ca none.pem: cannot be read" in done.err) == (2, True), done.err
    assert person.run("weigh", "--help").code == 0
