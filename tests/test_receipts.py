"""Receipts over several hauls, and manifests in open standards."""

from __future__ import annotations

import csv
import io
import json
import subprocess
from pathlib import Path
from urllib.parse import quote

import jsonschema
import pytest

from tests.support.program import run, sha256
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.formats.bagit import write_bag
from willow_cart.formats.manifests import sha256_sums
from willow_cart.ledger.entries import Arrival
from willow_cart.model import State
from willow_cart.version import __version__

ROOT = Path(__file__).parent.parent


@pytest.fixture
def desk(tmp_path: Path, place: StandIn) -> Path:
    """A folder with a destination that was hauled into twice; one file had changed meanwhile."""
    place.exhibits |= {f"levels/{n}.csv": Exhibit(b"level %d\n" % n) for n in range(4)}
    haul = ["haul", f"{place.base}/levels/{{0..3}}.csv", "--into", "data", "--keep-folders"]
    assert run(*haul, "--note", "for the June report", cwd=tmp_path).code == 0
    place.exhibits["levels/2.csv"] = Exhibit(b"renewed\n")
    del place.exhibits["levels/3.csv"]
    assert run(*haul, cwd=tmp_path).code == 1
    return tmp_path


def test_runs_are_listed_with_their_notes_and_counts(desk: Path) -> None:
    table = run("receipt", "data", "--runs", cwd=desk).out
    assert "for the June report | willow-cart haul" in table
    assert "1 arrived, 1 failed, 2 unchanged" in table
    first, second = run("receipt", "data", "--runs", "--json", cwd=desk).json()
    assert (first["note"], first["software"]) == (
        "for the June report",
        f"willow-cart {__version__}",
    )
    assert second["counts"] == {"arrived": 1, "failed": 1, "unchanged": 2}
    rows = list(
        csv.DictReader(io.StringIO(run("receipt", "data", "--runs", "--csv", cwd=desk).out))
    )
    assert [(row["run"], row["arrived"], row["failed"]) for row in rows] == [
        ("1", "4", "0"), ("2", "1", "1"),
    ]  # fmt: skip
    assert "for the June report" in run("receipt", "data", "--run", "1", cwd=desk).out


def test_receipts_are_as_their_schema_says(desk: Path) -> None:
    schema = json.loads((ROOT / "docs" / "receipt.schema.json").read_text())
    for number in ("1", "2"):
        receipt = run("receipt", "data", "--run", number, "--json", cwd=desk).json()
        jsonschema.validate(receipt, schema)
    states = schema["properties"]["files"]["items"]["properties"]["state"]["enum"]
    assert states == [*State]
    columns = run("receipt", "data", "--csv", cwd=desk).out.splitlines()[0].split(",")
    assert columns == list(schema["properties"]["files"]["items"]["properties"])
    receipt["surprise"] = 1
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(receipt, schema)


def test_one_file_has_a_story_with_every_version(desk: Path, place: StandIn) -> None:
    for name in ("levels/2.csv", "2.csv", f"{place.base}/levels/2.csv"):
        story = run("receipt", "data", "--of", name, "--json", cwd=desk).json()
        assert [(each["run"], each["state"], each["sha256"]) for each in story] == [
            (1, "arrived", sha256(b"level 2\n")),
            (2, "arrived", sha256(b"renewed\n")),
        ]
    assert "2 versions in 2 runs" in run("receipt", "data", "--of", "2.csv", cwd=desk).out
    lost = run("receipt", "data", "--of", "3.csv", cwd=desk).out
    assert "failed" in lost
    assert "404 Not Found" in lost
    nothing = run("receipt", "data", "--of", "nix.csv", cwd=desk)
    assert (nothing.code, nothing.err) == (
        2, "willow-cart: data: has no file nix.csv; give its path or its address\n"
    )  # fmt: skip


def test_the_checksum_list_is_one_for_the_system_s_own_tool(desk: Path) -> None:
    sums = run("receipt", "data", "--manifest", "sha256sums", cwd=desk).out
    check = ["sha256sum", "--check", "--strict", "-"]
    told = subprocess.run(check, input=sums.encode(), cwd=desk / "data", capture_output=True,
                          check=True)  # fmt: skip
    assert told.stdout.count(b": OK") == 4
    (desk / "SUMS").write_text(sums)
    assert run("audit", "data", "--checksums", "SUMS", cwd=desk).code == 0, "it is read back"


def arrival_of(path: str, sum_: str) -> Arrival:
    address = f"http://h/{quote(path)}"
    return Arrival(address, address, path, "2031-06-01T06:00:00+00:00", 3, sum_, None, None, "",
                   "nothing", 0)  # fmt: skip


@pytest.mark.posix
def test_names_that_tear_lines_are_escaped_as_the_tool_has_it(tmp_path: Path) -> None:
    odd = "a\nb\\c.csv"
    (tmp_path / odd).write_bytes(b"odd")
    (line,) = sha256_sums([arrival_of(odd, sha256(b"odd"))])
    check = ["sha256sum", "--check", "--strict", "-"]
    subprocess.run(check, input=f"{line}\n".encode(), cwd=tmp_path, capture_output=True, check=True)


def test_the_data_package_has_a_hash_a_size_and_a_source_for_each_file(
    desk: Path, place: StandIn
) -> None:
    package = json.loads(run("receipt", "data", "--manifest", "datapackage", cwd=desk).out)
    resources = {each["path"]: each for each in package["resources"]}
    assert set(resources) == {f"levels/{n}.csv" for n in range(4)}
    assert resources["levels/2.csv"]["hash"] == f"sha256:{sha256(b'renewed' + bytes([10]))}"
    assert resources["levels/2.csv"]["bytes"] == 8
    assert resources["levels/2.csv"]["sources"][0]["path"] == f"{place.base}/levels/2.csv"
    assert len({each["name"] for each in package["resources"]}) == 4


def test_the_paragraph_for_a_report_counts_by_place(desk: Path, place: StandIn) -> None:
    text = run("receipt", "data", "--manifest", "markdown", cwd=desk).out
    host = place.base.removeprefix("http://")
    assert f"- 4 files (32 B) from {host}, retrieved on " in text
    assert ": 4 checked by length only." in text
    rows = [line for line in text.splitlines() if line.startswith("| levels/")]
    assert len(rows) == 4
    assert f"| <{place.base}/levels/2.csv> |" in rows[2]
    assert f"`{sha256(b'renewed' + bytes([10]))}`" in rows[2]
    # Of one haul: what was there then, also if it has changed since.
    first = run("receipt", "data", "--manifest", "markdown", "--run", "1", cwd=desk).out
    assert sha256(b"level 2\n") in first
    sums = run("receipt", "data", "--manifest", "sha256sums", "--run", "1", cwd=desk).out
    assert f"{sha256(b'level 2' + bytes([10]))}  levels/2.csv\n" in sums
    crate = run("receipt", "data", "--manifest", "ro-crate", "--run", "1", cwd=desk)
    assert (crate.code, "--run --manifest: do not go together" in crate.err) == (2, True)


def test_many_files_are_not_listed_in_a_report(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"{n}.csv": Exhibit(b"%d" % n) for n in range(21)}
    run("haul", f"{place.base}/{{0..20}}.csv", "--into", "data", cwd=tmp_path)
    text = run("receipt", "data", "--manifest", "markdown", cwd=tmp_path).out
    assert "The 21 files are listed with their SHA-256 in `SHA256SUMS`" in text
    assert "| 1.csv |" not in text


def test_a_bag_is_whole_and_says_what_it_is(desk: Path) -> None:
    outcome = run("receipt", "data", "--bag", "out/bag", cwd=desk)
    assert (outcome.code, outcome.out) == (0, "4 files in the bag out/bag\n")
    bag = desk / "out" / "bag"
    assert (bag / "bagit.txt").read_bytes() == (
        b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
    )
    info = (bag / "bag-info.txt").read_text()
    assert "Payload-Oxum: 32.4\n" in info
    assert "External-Description: for the June report\n" in info
    for manifest in ("manifest-sha256.txt", "tagmanifest-sha256.txt"):
        check = ["sha256sum", "--check", "--strict", "--quiet", manifest]
        subprocess.run(check, cwd=bag, check=True, capture_output=True)
    audit = run("audit", bag, "--checksums", bag / "manifest-sha256.txt", "--json", cwd=desk)
    found = {each["path"]: each["finding"] for each in audit.json()}
    assert {path for path, finding in found.items() if finding == "unchanged"} == {
        f"data/levels/{n}.csv" for n in range(4)
    }
    again = run("receipt", "data", "--bag", "out/bag", cwd=desk)
    assert (again.code, again.err) == (
        1, "willow-cart: out/bag: already exists; name a new folder\n"
    )  # fmt: skip
    (desk / "data" / "levels" / "1.csv").unlink()
    lost = run("receipt", "data", "--bag", "other", cwd=desk)
    assert lost.code == 1
    assert "levels/1.csv: no such file or directory; run an audit" in lost.err
    assert not (desk / "other").exists()


@pytest.mark.posix
def test_a_bag_s_manifest_is_read_back_whatever_the_names(tmp_path: Path) -> None:
    names = ["50% of it.csv", "two\nlines.csv", "odd\u2028line.csv", "%0A.csv"]
    lying = tmp_path / "data"
    lying.mkdir()
    for name in names:
        (lying / name).write_bytes(name.encode())
    arrivals = [arrival_of(name, sha256(name.encode())) for name in names]
    assert write_bag(lying, arrivals, tmp_path / "bag") == len(names)
    manifest = ["--checksums", "bag/manifest-sha256.txt"]
    found = run("audit", "bag", *manifest, "--json", cwd=tmp_path).json()
    unchanged = {each["path"] for each in found if each["finding"] == "unchanged"}
    assert unchanged == {f"data/{name}" for name in names}


def test_the_crate_ties_every_file_to_the_haul_that_brought_it(desk: Path, place: StandIn) -> None:
    crate = json.loads(run("receipt", "data", "--manifest", "ro-crate", cwd=desk).out)
    assert crate["@context"][0] == "https://w3id.org/ro/crate/1.1/context"
    entities = {each["@id"]: each for each in crate["@graph"]}
    assert len(entities) == len(crate["@graph"]), "none is described twice"
    assert entities["ro-crate-metadata.json"]["about"] == {"@id": "./"}
    root = entities["./"]
    assert root["name"] == "for the June report"
    parts = [part["@id"] for part in root["hasPart"]]
    assert parts == [f"levels/{n}.csv" for n in range(4)]
    renewed = entities["levels/2.csv"]
    assert (renewed["sha256"], renewed["contentSize"]) == (sha256(b"renewed\n"), "8")
    assert renewed["contentUrl"] == f"{place.base}/levels/2.csv"
    assert renewed["encodingFormat"] == "text/csv"
    first, second = (entities[f"#haul-{number}"] for number in (1, 2))
    assert [each["@id"] for each in first["result"]] == [f"levels/{n}.csv" for n in (0, 1, 3)]
    assert [each["@id"] for each in second["result"]] == ["levels/2.csv"]
    assert first["actionStatus"].endswith("CompletedActionStatus")
    assert second["actionStatus"].endswith("FailedActionStatus")
    assert entities[first["instrument"]["@id"]]["version"] == __version__
    for reference in (*root["hasPart"], *root["mentions"]):
        assert reference["@id"] in entities


def test_a_story_is_found_by_name_where_nothing_ever_came(desk: Path, place: StandIn) -> None:
    assert (
        run(
            "haul", f"{place.base}/lost/never.csv", "--into", "data", "--keep-folders", cwd=desk
        ).code
        == 1
    )
    for name in ("never.csv", "lost/never.csv", f"{place.base}/lost/never.csv"):
        story = run("receipt", "data", "--of", name, "--json", cwd=desk).json()
        assert [(each["run"], each["state"]) for each in story] == [(3, "failed")]


def test_a_file_s_seconds_are_all_that_it_took(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["slow.bin"] = Exhibit(bytes(100_000), speed=400_000)
    assert run("haul", f"{place.base}/slow.bin", "--into", "x", cwd=tmp_path).code == 0
    (file,) = run("receipt", "x", "--json", cwd=tmp_path).json()["files"]
    assert 0.19 < file["seconds"] < 60


@pytest.mark.parametrize(
    "words",
    [["--runs", "--html", "x"], ["--of", "a", "--bag", "x"], ["--run", "1", "--bag", "x"]],
    ids=" ".join,
)
def test_forms_that_cannot_show_what_is_asked_for_say_so(desk: Path, words: list[str]) -> None:
    outcome = run("receipt", "data", *words, cwd=desk)
    assert outcome.code == 2
    assert "do not go together; leave one of them out" in outcome.err
    assert not (desk / "x").exists()
