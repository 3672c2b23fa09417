"""What is in a folder as one archive: the same to the byte, with its proofs."""

from __future__ import annotations

import json
import subprocess
import tarfile
import zipfile
from pathlib import Path

from tests.support.program import run
from tests.test_unpacking import zipped
from willow_cart.demo.stand_in import Exhibit, StandIn


def test_the_same_files_make_the_same_archive_anywhere(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {
        "b/levels ü.csv": Exhibit(b"day,level\n1,1.2\n", modified=1_935_576_000),
        "a.zip": Exhibit(zipped({"deep/counts.csv": b"day,teal\n"})),
        "SHA256SUMS": Exhibit(b"0\n"),
    }
    addresses = [f"{place.base}/b/levels%20%C3%BC.csv", f"{place.base}/a.zip",
                 f"{place.base}/SHA256SUMS"]  # fmt: skip
    place.exhibits["b/levels%20%C3%BC.csv"] = place.exhibits.pop("b/levels ü.csv")
    archives = []
    for folder in ("one", "two"):
        haul = run(
            "haul",
            *addresses,
            "--into",
            folder,
            "--keep-folders",
            "--unpack",
            "*.zip",
            cwd=tmp_path,
        )
        assert haul.code == 0
        for ending in ("zip", "tar.gz"):
            packed = run("pack", folder, "--to", f"{folder}.{ending}", "--drop", "*SUMS",
                         cwd=tmp_path)  # fmt: skip
            assert (packed.code, packed.err) == (0, "")
            assert packed.out.startswith("3 files, ")
        archives.append(folder)
    with zipfile.ZipFile(tmp_path / "one.zip") as one:
        assert one.namelist() == [
            "a.zip", "a/deep/counts.csv", "b/levels ü.csv", "SHA256SUMS", "datapackage.json"
        ]  # fmt: skip
        assert one.getinfo("b/levels ü.csv").date_time == (2031, 5, 3, 12, 0, 0)
        one.extractall(tmp_path / "out")
        resources = json.loads(one.read("datapackage.json"))["resources"]
    assert resources[1]["sources"][0]["path"] == f"{place.base}/a.zip#inside=deep/counts.csv"
    subprocess.run(["sha256sum", "-c", "--quiet", "SHA256SUMS"], cwd=tmp_path / "out", check=True)
    with tarfile.open(tmp_path / "one.tar.gz") as tar:
        assert {(each.uid, each.mode, each.uname) for each in tar} == {(0, 0o644, "")}
    # When the hauls were is told in the descriptor; but for that they are the same.
    again = run("pack", "one", "--to", "again.zip", "--drop", "*SUMS", cwd=tmp_path)
    assert again.code == 0
    assert (tmp_path / "again.zip").read_bytes() == (tmp_path / "one.zip").read_bytes()
    plain = [run("pack", "out", "--to", f"{name}.tar.gz", cwd=tmp_path) for name in "xy"]
    assert "SHA256SUMS: is left out; a file of that name is added" in plain[0].err
    assert (tmp_path / "x.tar.gz").read_bytes() == (tmp_path / "y.tar.gz").read_bytes()


def test_what_is_not_as_it_was_hauled_stays_out(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"a.csv": Exhibit(b"1,2\n"), "b.csv": Exhibit(b"3,4\n")}
    haul = ["haul", f"{place.base}/a.csv", f"{place.base}/b.csv", "--into", "data"]
    assert run(*haul, cwd=tmp_path).code == 0
    (tmp_path / "data/b.csv").write_bytes(b"3,5\n")
    packed = run("pack", "data", "--to", "p.zip", cwd=tmp_path)
    assert packed.code == 4
    assert (
        "b.csv: changed since the haul; left out (run willow-cart audit for details)" in packed.err
    )
    assert zipfile.ZipFile(tmp_path / "p.zip").namelist() == [
        "a.csv", "SHA256SUMS", "datapackage.json"
    ]  # fmt: skip
    nothing = run("pack", "data", "--to", "q.zip", "--keep", "b.csv", cwd=tmp_path)
    assert (nothing.code, "nothing is left to pack" in nothing.err) == (3, True)
    form = run("pack", "data", "--to", "p.rar", cwd=tmp_path)
    assert (form.code, "use .zip or .tar.gz" in form.err) == (2, True)
    assert {path.name for path in tmp_path.iterdir()} == {"data", "p.zip"}
