"""Where a file lands depends on its path below the source, and not on the protocol."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.program import RunHere, files_in, run
from willow_cart.demo.places import Outbox
from willow_cart.demo.stand_in import Exhibit, StandIn

FILES = {
    "pub/climate/2029/obs.csv": b"a\n",
    "pub/climate/2030/obs.csv": b"b\n",
    "pub/climate/notes.txt": b"c\n",
}

# What is typed below the address of the server, and where files land.
CASES = [
    (["pub/climate/2029/obs.csv"], {"obs.csv"}),
    (["pub/climate/{2029,2030}/obs.csv"], {"2029/obs.csv", "2030/obs.csv"}),
    (["pub/climate/20{29..30}/obs.csv"], {"2029/obs.csv", "2030/obs.csv"}),
    (["pub/climate/2029/{obs,obs}.csv"], {"obs.csv"}),
    (["pub/climate/*/obs.csv", "--depth", "all"], {"2029/obs.csv", "2030/obs.csv"}),
    (["pub/climate/notes.*"], {"notes.txt"}),
    (["pub/", "--depth", "all"], {path.removeprefix("pub/") for path in FILES}),
    (["pub/climate/{2029,2030}/"], {"2029/obs.csv", "2030/obs.csv"}),
    (["pub/climate/2029/obs.csv", "--keep-folders"], {"pub/climate/2029/obs.csv"}),
    (["pub/climate/20{29..30}/obs.csv", "--keep-folders"], {*list(FILES)[:2]}),
    (["pub/climate/*/obs.csv", "--depth", "all", "--keep-folders"], {*list(FILES)[:2]}),
    (["pub/climate/", "--depth", "all", "--keep-folders"], {*FILES}),
]


@pytest.fixture(params=["web", "ftp", "local"])
def server(request: pytest.FixtureRequest, tmp_path: Path, place: StandIn) -> Iterator[str]:
    if request.param == "web":
        place.exhibits |= {path: Exhibit(content) for path, content in FILES.items()}
        yield place.base
        return
    root = tmp_path / "outbox"
    for path, content in FILES.items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_bytes(content)
    if request.param == "local":
        yield root.as_uri()
        return
    with Outbox(root) as served:
        yield served.base.removesuffix("/")


@pytest.mark.parametrize(("words", "landed"), CASES)
def test_the_same_words_file_the_same_whatever_the_protocol(
    words: list[str], landed: set[str], server: str, tmp_path: Path, here: RunHere
) -> None:
    if server.startswith("file:") and "--keep-folders" in words:
        return  # the top of this machine is not that of a server
    done = here(tmp_path, "haul", f"{server}/{words[0]}", *words[1:], "--into", "data")
    assert done.code == 0, done.err
    assert set(files_in(tmp_path / "data")) == landed


def test_what_was_filed_under_the_old_rule_stays_there(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["pub/obs.csv"] = Exhibit(b"a\n")
    address = f"{place.base}/pub/obs.csv"
    assert run("haul", address, "--into", "data", "--keep-folders", cwd=tmp_path).code == 0
    place.exhibits["pub/obs.csv"] = Exhibit(b"newer\n")
    done = run("haul", address, "--into", "data", cwd=tmp_path)
    assert done.code == 0, done.err
    assert files_in(tmp_path / "data") == {"pub/obs.csv": b"newer\n"}


def test_addresses_of_a_list_keep_their_folders(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {path: Exhibit(content) for path, content in FILES.items()}
    (tmp_path / "list.txt").write_text("".join(f"{place.base}/{path}\n" for path in FILES))
    assert run("haul", "list.txt", "--into", "data", cwd=tmp_path).code == 0
    assert set(files_in(tmp_path / "data")) == set(FILES)


# What is typed, what is in the first line about it, and the exit code.
NOTHING = [
    (["{web}/pub/*.nix"], "{web}/pub/*.nix: matches nothing; nearby: obs.csv"),
    (["{ftp}/pub/obbs*.csv"], "{ftp}/pub/obbs*.csv: matches nothing; nearby: obs.csv"),
    (["{ftp}/pub/empty/*"], "{ftp}/pub/empty/*: matches nothing; {ftp}/pub/empty/ is empty"),
    (["{ftp}/pub/empty/"], "{ftp}/pub/empty/: offers no files; check the address"),
    (["out.csv"], "out.csv: no row of it is taken; write yes in the column take, or pick --back"),
    (["odd.csv"], "odd.csv, row 2: column take, 'maybe': not yes or no; write yes, or leave it"),
    (["empty.txt"], "empty.txt: contains no addresses; write one on each line"),
    (["{web}/page.html", "--within", "#none"], "--within #none: matches nothing with links on"),
    (["{web}/bare.html"], "{web}/bare.html: offers no files; check the address; --parts images"),
    (["{web}/page.html", "--column", "9"], "--column 9 excluded all 2 offers; columns: 1 Counts"),
    (["{web}/page.html", "--keep", "obss.csv"], "excluded all 2 offers; nearby: obs.csv"),
    (["{web}/page.html", "--link-text", "mpas"], "links: counts, maps"),
]  # fmt: skip


@pytest.mark.parametrize(("words", "said"), NOTHING)
def test_each_reason_for_nothing_has_its_own_words(
    words: list[str], said: str, tmp_path: Path, place: StandIn, here: RunHere
) -> None:
    page = '<table><tr><th>Counts<th>Map<tr><td><a href="pub/obs.csv">counts</a>'
    place.exhibits |= {
        "pub/obs.csv": Exhibit(b"a\n"),
        "page.html": Exhibit(f'{page}<td><a href="pub/map.png">maps</a></table>'.encode()),
        "bare.html": Exhibit(b"<title>Hides</title><p>Nothing yet."),
    }
    (tmp_path / "out.csv").write_text("take,url\n,http://h.example/a\n")
    (tmp_path / "odd.csv").write_text("take,url\nmaybe,http://h.example/a\n")
    (tmp_path / "empty.txt").write_text("# none yet\n")
    root = tmp_path / "outbox"
    (root / "pub" / "empty").mkdir(parents=True)
    (root / "pub" / "obs.csv").write_bytes(b"a\n")
    with Outbox(root) as served:
        names = {"web": place.base, "ftp": served.base.removesuffix("/")}
        done = here(tmp_path, "survey", *(word.format(**names) for word in words))
        assert done.code == 3, done.out
        assert said.format(**names) in done.err
        # Beside a source that offers something, one that was to match something is a failure.
        (tmp_path / "list.txt").write_text(f"{place.base}/pub/obs.csv\n")
        if "matches nothing;" in said:
            done = here(tmp_path, "survey", "list.txt", *(word.format(**names) for word in words))
            assert (done.code, said.format(**names) in done.err) == (1, True)
