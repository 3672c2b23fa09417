"""Receipts over several hauls, and manifests in open standards."""

from __future__ import annotations

import csv
import io
import json
import subprocess
from pathlib import Path

import jsonschema
import pytest

from tests.support.program import run, sha256
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.records import Arrival
from willow_cart.records.manifests import Manifest
from willow_cart.version import __version__

ROOT = Path(__file__).parent.parent


@pytest.fixture
def desk(tmp_path: Path, place: StandIn) -> Path:
    """A folder with a destination that was hauled into twice; one file had changed meanwhile."""
    place.exhibits |= {f"levels/{n}.csv": Exhibit(b"level %d\n" % n) for n in range(4)}
    haul = ["haul", f"{place.base}/levels/{{0..3}}.csv", "--into", "data"]
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


def test_names_that_tear_lines_are_escaped_as_the_tool_has_it(tmp_path: Path) -> None:
    odd = "a\nb\\c.csv"
    (tmp_path / odd).write_bytes(b"odd")
    arrival = Arrival("http://h/x", "http://h/x", odd, "2031-06-01T06:00:00+00:00", 3,
                      sha256(b"odd"), None, None, "", "nothing", 0)  # fmt: skip
    (line,) = Manifest.SHA256SUMS.lines([arrival])
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
        1, "willow-cart: out/bag: is there already; name a new folder\n"
    )  # fmt: skip
    (desk / "data" / "levels" / "1.csv").unlink()
    lost = run("receipt", "data", "--bag", "other", cwd=desk)
    assert lost.code == 1
    assert "levels/1.csv: no such file or directory; see what an audit says" in lost.err
    assert not (desk / "other").exists()
