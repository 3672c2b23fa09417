"""Folder indexes: as real servers write them, with folders in folders, and as traps."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from pathlib import Path

import pytest

from tests.support.index_servers import INDEX_SERVERS, index_server, is_installed
from tests.support.program import files_in, run
from tests.support.servers import APACHE, NGINX, apache, nginx, python_server
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler, make_index

LONG = "a long name of a field note with blanks & an ampersand, which no listing shows whole.txt"
FILES = {
    "README.txt": b"r" * 43,
    LONG: b"x" * 1536,
    "übersicht #1.csv": b"a",
    "100%.csv": b"percent",
    "2029/spring/alder.csv": b"s" * 4321,
    "2029/autumn/alder.csv": b"a" * 70_000,
    "2030/alder.csv": b"2030",
    "2030/deep/deeper/last.wav": b"w" * 3_000_000,
}
LONG_AGO = 1_600_000_000  # a date to come would be none to the servers (RFC 9110, 8.8.2.1)
Serve = Callable[[Path, Path], AbstractContextManager[str]]
SERVERS: dict[str, tuple[Serve, str, bool | None]] = {
    "nginx": (nginx, "index/", True),
    "nginx rounding": (nginx, "rounded/", False),
    "nginx json": (nginx, "json/", True),
    "nginx xml": (nginx, "xml/", True),
    "apache plain": (apache, "plain/", None),
    "apache fancy": (apache, "fancy/", False),
    "apache table": (apache, "table/", False),
    "python": (lambda root, _: python_server(root), "", None),
}


@pytest.fixture
def archive(tmp_path: Path) -> Path:
    """A folder with folders in it, and a link in one of them that leads back up."""
    root = tmp_path / "www"
    for path, content in FILES.items():
        file = root / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(content)
        os.utime(file, (LONG_AGO, LONG_AGO))
    (root / "2029" / "again").symlink_to("..")
    return root


@pytest.fixture(params=SERVERS)
def server(request: pytest.FixtureRequest, tmp_path: Path, archive: Path) -> Iterator[str]:
    """The address of the folder on each server."""
    serve, path, _ = SERVERS[request.param]
    if (serve is apache and not APACHE) or (serve is nginx and not NGINX):
        pytest.skip("is not installed")
    with serve(archive, tmp_path / "work") as base:
        yield f"{base}/{path}"


def test_every_server_s_index_is_read_to_the_bottom(
    tmp_path: Path, server: str, request: pytest.FixtureRequest
) -> None:
    exact = SERVERS[request.node.callspec.params["server"]][2]
    found = run("survey", server, "--depth", "all", "--json", cwd=tmp_path).json()
    offers = {offer["path"]: offer for offer in found["offers"]}
    assert set(offers) == set(FILES), "the parent, the links that sort, and loops are no offers"
    assert [each["path"] for each in found["not_entered"]] == ["2029/again/"]
    for path, content in FILES.items():
        offer = offers[path]
        if exact is None:
            assert (offer["size"], offer["size_about"], offer["modified"]) == (None, None, None)
            continue
        assert offer["modified"].startswith("2020-09-13T12:26")
        if offer["size"] is None:
            assert not exact, "a rounded size is never passed off as an exact one"
            assert offer["size_about"] == pytest.approx(len(content), rel=0.06)
        else:
            assert offer["size"] == len(content)
    if exact is False:
        assert any(offer["size"] is None for offer in offers.values())


def test_what_a_survey_shows_a_haul_brings_home(tmp_path: Path, server: str) -> None:
    options = [server, "--depth", "all", "--keep", "**/alder.csv"]
    outcome = run("haul", *options, "--into", "x", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    expected = {path: content for path, content in FILES.items() if path.endswith("/alder.csv")}
    assert files_in(tmp_path / "x") == expected
    assert (
        "1 folder not entered because it leads back to an earlier folder: 2029/again/"
        in outcome.err
    )
    again = run("haul", *options, "--into", "x", cwd=tmp_path)
    assert "all unchanged" in again.last_line


TREE = {
    "levels.csv": b"station,level\nS001,1.2\n",
    "noext": b"no extension",
    "2031/a.csv": b"a" * 3000,
    "2031/deep/dawn.wav": b"w" * 70_000,
    "Reed & Co/a b, 1.csv": b"blanks and signs",
    "raw.d/data": b"a folder with a dot",
    "raw.d/2030/Pegelstände.csv": "ä".encode(),
}


@pytest.mark.parametrize("name", INDEX_SERVERS)
def test_a_tree_comes_as_it_is_whatever_server_lists_it(tmp_path: Path, name: str) -> None:
    """No folder is filed as data, none is missing, and nothing that sorts or advertises comes."""
    if not is_installed(name):
        pytest.skip("is not installed")
    for path, content in TREE.items():
        file = tmp_path / "www" / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(content)
    with index_server(name, tmp_path / "www", tmp_path / "work") as base:
        words = [base, "--depth", "all"]
        found = run("survey", *words, "--json", cwd=tmp_path)
        assert found.code == 0, found.err
        assert {each["path"] for each in found.json()["offers"]} == set(TREE)
        done = run("haul", *words, "--into", "x", cwd=tmp_path)
        assert done.code == 0, done.err
        assert files_in(tmp_path / "x") == TREE
        again = run("haul", *words, "--into", "x", cwd=tmp_path)
        assert again.code == 0, again.err
        assert "unchanged" in again.last_line or "all already here" in again.last_line
        # A folder that a list takes for a file is not filed as data either.
        (tmp_path / "list.txt").write_text(f"{base}raw.d\n{base}2031\n")
        listed = run("haul", "list.txt", "--into", "y", cwd=tmp_path)
        assert {Path(path).name for path in files_in(tmp_path / "y")} <= {
            Path(path).name for path in TREE
        }, listed.err


def test_folders_that_are_not_entered_are_counted_and_named(tmp_path: Path, archive: Path) -> None:
    with python_server(archive) as base:
        # Without the slash at its end the address means the same: the server states it.
        outcome = run("survey", f"{base}/2030", cwd=tmp_path)
        assert "1 folder not entered (--depth 2 or --depth all to enter): deep/" in outcome.err
        assert outcome.last_line.startswith("1 offer, 1 chosen")
        assert outcome.last_line.endswith("; 1 folder not entered (--depth all)")
        two = run("survey", base, "--depth", "2", "--json", cwd=tmp_path).json()
        assert {each["path"] for each in two["not_entered"]} >= {"2029/spring/", "2030/deep/"}
        tree = run("survey", base, "--depth", "2", "--tree", cwd=tmp_path)
        assert "deep/  not entered: deeper than --depth" in tree.out
        assert "100%.csv" in tree.out


def test_a_saved_index_is_read_with_the_address_it_is_from(tmp_path: Path) -> None:
    saved = Path(__file__).parent / "saved" / "lighttpd.html"
    base = "http://trust.example/archive/"
    found = run("survey", saved, "--base", base, "--json", cwd=tmp_path).json()
    rows = [(o["path"], o["size"], o["size_about"], o["url"]) for o in found["offers"]]
    assert rows == [
        ("README.txt", None, 102, f"{base}README.txt"),
        (LONG, None, 1536, rows[1][3]),
        ("übersicht #1.csv", None, 102, f"{base}%C3%BCbersicht%20%231.csv"),
    ]
    assert found["offers"][0]["modified"] == "2031-06-01T06:00:00+00:00"


def test_robots_are_heeded_below_the_first_page_unless_told_otherwise(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {
        "robots.txt": Exhibit(b"User-agent: *\nDisallow: /data/drafts/\n"),
        "data/a.csv": Exhibit(b"a"),
        "data/drafts/b.csv": Exhibit(b"b"),
    }
    everything = ["survey", f"{place.base}/data/", "--depth", "all", "--pause", "0.05"]
    outcome = run(*everything, "--json", cwd=tmp_path)
    assert [offer["path"] for offer in outcome.json()["offers"]] == ["a.csv"]
    assert "not entered, disallowed by robots.txt (--ignore-robots" in outcome.err
    both = run(*everything, "--ignore-robots", "--json", cwd=tmp_path).json()
    assert [offer["path"] for offer in both["offers"]] == ["a.csv", "drafts/b.csv"]
    # What the person names is asked for; robots.txt is about following links.
    assert run("survey", f"{place.base}/data/drafts/", cwd=tmp_path).code == 0
    # RFC 9309, 2.3.1.4: rules that cannot be read may forbid everything.
    place.exhibits["robots.txt"] = Exhibit(script=lambda handler: handler.refuse(500))
    outcome = run(*everything, "--json", cwd=tmp_path)
    assert [offer["path"] for offer in outcome.json()["offers"]] == ["a.csv"]


def test_an_index_never_leads_above_beside_or_back(tmp_path: Path, place: StandIn) -> None:
    index = (
        '<title>Index of /data/</title><pre><a href="../">..</a>\n'
        '<a href="/other/x.csv">x</a> <a href="?C=N;O=D">Name</a>\n'
        '<a href="//elsewhere.example/data/y.csv">y</a>\n'
        '<a href="%2e%2e/up.csv">up</a> <a href="%2e%2e/">up</a> <a href="./">here</a>\n'
        '<a href="sub/inner.csv">too deep for an entry</a>\n'
        '<a href="/data/away/">away</a> <a href="good.csv">good</a> 01-Jun-2031 06:00  12\n</pre>'
    )
    place.exhibits |= {
        "data/": Exhibit(index.encode(), media_type="text/html"),
        "data/away/": Exhibit(script=lambda h: h.refuse(302, {"Location": "/other/"})),
        "other/x.csv": Exhibit(b"x"),
    }
    found = run("survey", f"{place.base}/data/", "--depth", "all", "--json", cwd=tmp_path).json()
    assert [(offer["path"], offer["size"]) for offer in found["offers"]] == [("good.csv", 12)]
    assert [each["path"] for each in found["not_entered"]] == ["away/"]


def test_a_folder_without_end_ends(tmp_path: Path, place: StandIn) -> None:
    """A server that has another folder in every folder, each with another name."""

    def endless(handler: StandInHandler) -> None:
        path = handler.path.lstrip("/")
        page = make_index(path, {f"{path}n{path.count('/')}/x": Exhibit()})
        handler.start(200, {"Content-Type": "text/html", "Content-Length": str(len(page))})
        handler.wfile.write(page)

    class ProtocolRouter(dict[str, Exhibit]):
        def get(self, key: str, default: object = None) -> Exhibit:
            return Exhibit(script=endless)

    place.exhibits = ProtocolRouter()
    outcome = run("survey", f"{place.base}/t/", "--depth", "all", "--ignore-robots", cwd=tmp_path)
    assert "not entered, more than 100 levels down" in outcome.err
    assert outcome.code == 3
    assert len({request.path for request in place.requests}) == 100


@pytest.mark.parametrize("cycle", [["a"], ["a", "b"], ["x", "y", "z"]])
def test_a_site_that_makes_up_the_same_folders_again_and_again_is_left(
    tmp_path: Path, place: StandIn, cycle: list[str]
) -> None:
    def made_up(handler: StandInHandler) -> None:
        path = handler.path.lstrip("/")
        level = path.count("/") - 1
        names = {f"{path}{cycle[level % len(cycle)]}/x": Exhibit(), f"{path}{level}.csv": Exhibit()}
        page = make_index(path, names)
        handler.start(200, {"Content-Type": "text/html", "Content-Length": str(len(page))})
        handler.wfile.write(page)

    class ProtocolRouter(dict[str, Exhibit]):
        def get(self, key: str, default: object = None) -> Exhibit:
            return Exhibit(script=made_up)

    place.exhibits = ProtocolRouter()
    outcome = run("survey", f"{place.base}/t/", "--depth", "all", "--ignore-robots", cwd=tmp_path)
    assert "not entered because it leads back to an earlier folder" in outcome.err
    assert len({request.path for request in place.requests}) <= 3 * len(cycle) + 2


def test_a_source_is_read_no_further_than_allowed(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"d/{n:03}.csv": Exhibit(b"x") for n in range(300)}
    place.exhibits |= {f"e/{n:03}/x.csv": Exhibit(b"x") for n in range(20)}
    files = run("survey", f"{place.base}/d/", "--most-listed", "200", "--json", cwd=tmp_path)
    assert files.code == 1
    assert len(files.json()["offers"]) == 200
    assert "lists more than 200 files; the rest was not read (--most-listed" in files.err
    folders = ["--depth", "all", "--most-listed", "900", "--ignore-robots"]
    found = run("survey", f"{place.base}/e/", *folders, "--json", cwd=tmp_path)
    assert len(found.json()["offers"]) == 10
    assert "10 folders not entered because of the limit (--most-listed allows more)" in found.err


def test_first_ends_a_long_listing(tmp_path: Path, place: StandIn) -> None:
    """Of a bucket whose pages have no end."""

    def page(handler: StandInHandler) -> None:
        number = len(place.requests)
        keys = "".join(
            f"<Contents><Key>{number:06}-{n:03}.csv</Key><Size>1</Size></Contents>"
            for n in range(200)
        )
        body = (
            f"<ListBucketResult><IsTruncated>true</IsTruncated>{keys}"
            f"<NextContinuationToken>{number}</NextContinuationToken></ListBucketResult>"
        ).encode()
        handler.start(200, {"Content-Length": str(len(body))})
        handler.wfile.write(body)

    class ProtocolRouter(dict[str, Exhibit]):
        def get(self, key: str, default: object = None) -> Exhibit:
            return Exhibit(script=page)

    place.exhibits = ProtocolRouter()
    bucket = ["s3://odd/", "--endpoint", place.base]
    outcome = run("survey", *bucket, "--first", "200", "--json", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert sum(not offer.get("dropped_by") for offer in outcome.json()["offers"]) == 200
    assert "the listing was read up to --first 200; there may be more" in outcome.err


@pytest.mark.parametrize(
    ("media_type", "content"),
    [
        ("application/json", b'{"files": []}'),
        ("application/xml", b"<report/>"),
        ("text/plain", b"a.csv\n"),
    ],
)
def test_the_index_of_a_folder_is_never_filed_as_if_it_were_the_data(
    tmp_path: Path, place: StandIn, media_type: str, content: bytes
) -> None:
    place.exhibits["d/"] = Exhibit(content, media_type=media_type)
    outcome = run("haul", f"{place.base}/d/", "--into", "x", cwd=tmp_path)
    assert outcome.code == 2
    assert "not a listing; give --as file to fetch" in outcome.err
    assert not (tmp_path / "x").exists()
    as_file = run("haul", f"{place.base}/d/", "--as", "file", "--into", "x", cwd=tmp_path)
    assert as_file.code == 0, as_file.err


def test_a_folder_in_a_list_stands_for_its_files_and_one_that_fails_is_told(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {"data/a.csv": Exhibit(b"a"), "data/b.csv": Exhibit(b"b")}
    place.exhibits["data/shut/"] = Exhibit(script=lambda handler: handler.refuse(403))
    lines = [f"{place.base}/z.csv", f"{place.base}/data/", f"{place.base}/gone/"]
    (tmp_path / "list.txt").write_text("\n".join(lines))
    outcome = run("survey", "list.txt", "--json", "--depth", "2", cwd=tmp_path)
    assert outcome.code == 1
    assert [(o["number"], o["path"]) for o in outcome.json()["offers"]] == [
        (1, "z.csv"), (2, "a.csv"), (3, "b.csv"),
    ]  # fmt: skip
    assert f"{place.base}/data/shut/: 403 Forbidden" in outcome.err
    assert f"{place.base}/gone/: 404 Not Found" in outcome.err
    only = run("survey", f"{place.base}/gone/", cwd=tmp_path)
    assert (only.code, only.out) == (1, "")


def test_a_place_with_nothing_but_folders_is_surveyed_and_not_hauled(tmp_path: Path) -> None:
    for name in ("2030", "2031"):
        (tmp_path / "site" / name).mkdir(parents=True)
        (tmp_path / "site" / name / "level.csv").write_text("1\n")
    surveyed = run("survey", "site", cwd=tmp_path)
    assert (surveyed.code, surveyed.out) == (
        0,
        "0 offers, 0 chosen; 2 folders not entered (--depth all)\n",
    )
    assert "2030/, 2031/" in surveyed.err
    for command in (["haul", "site", "--into", "d"], ["load", "site", "--cart", "c.csv"]):
        refused = run(*command, cwd=tmp_path)
        why = "no files found: only 2 folders, not entered; use --depth 2 or --depth all"
        assert (refused.code, why in refused.err) == (3, True), refused.err
