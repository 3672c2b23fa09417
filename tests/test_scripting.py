"""The commands as functions: in scripts, in threads, and in a notebook."""

from __future__ import annotations

import os
import pkgutil
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import nbformat
import pandas
import pytest
from nbclient import NotebookClient

import willow_cart as wc
from tests.support.program import PATIENCE, files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import BadOption, NothingChosen

ROOT = Path(__file__).parent.parent


def test_the_functions_are_not_hidden_by_modules() -> None:
    modules = {each.name for each in pkgutil.iter_modules(wc.__path__)}
    assert not modules & set(wc.__all__) - {"errors"}


def test_whatever_offers_files_is_hauled_and_a_second_call_reads_the_same(
    tmp_path: Path, trust_site: StandIn, capfd: pytest.CaptureFixture[str]
) -> None:
    page = f"{trust_site.base}/hides/2031.html"
    survey = wc.survey(page, column="Counts", ask_sizes=True)
    assert (len(survey), survey.offered, survey.complete) == (9, 29, True)
    assert survey.not_entered[0].path.endswith("2030.html")
    assert "1 further page not followed" in survey.notes[0]
    assert "9 files, 33.7 kB, of 29 offered" in survey._repr_html_()
    frame = survey.to_frame()
    may = frame[frame.heading == "May 2031"]
    cart = wc.load(survey, keep="2031-05/*")
    assert len(cart) == 3
    hauls = [wc.haul(each, into=tmp_path / "d") for each in (may, cart, survey, survey)]
    assert [haul.account.planned for haul in hauls] == [3, 3, 9, 9]
    assert hauls[0].account.counts[wc.State.ARRIVED] == 3
    assert hauls[1].account.counts[wc.State.UNCHANGED] == 3
    assert hauls[2].paths == hauls[3].paths
    assert len(files_in(tmp_path / "d")) == 9  # no numbered copies
    sizes = {path.stat().st_size for path in hauls[3].paths}
    assert sizes == set(hauls[3].to_frame()["size"])
    assert hauls[3].to_frame()["state"].unique().tolist() == ["unchanged"]
    # Quiet, and the ledger has what to type.
    assert capfd.readouterr() == ("", "")
    assert hauls[3].receipt.command.startswith("willow-cart haul")
    single = wc.haul(f"{trust_site.base}/archive/README.txt", into=tmp_path / "one")
    assert single.path.read_bytes().startswith(b"Counts")
    with pytest.raises(wc.WillowCartError, match="there are 9 files"):
        hauls[3].path  # noqa: B018


def test_what_does_not_come_is_an_error_that_has_the_haul(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"a.csv": Exhibit(b"a"), "b.csv": Exhibit(b"b")}
    (tmp_path / "list.txt").write_text(f"{place.base}/a.csv\n{place.base}/none.csv\n")
    (tmp_path / "sums").write_text(f"{'0' * 64}  b.csv\n")
    with pytest.raises(wc.Incomplete, match=r"1 failed.*404.*must_arrive=False") as short:
        wc.haul(tmp_path / "list.txt", into=tmp_path / "d")
    result = short.value.result
    assert isinstance(result, wc.Haul)
    assert (short.value.exit_code, [path.name for path in result.paths]) == (1, ["a.csv"])
    assert [row.path for row in result.troubles] == ["none.csv"]
    with pytest.raises(wc.Incomplete) as wrong:
        wc.haul(f"{place.base}/b.csv", into=tmp_path / "e", checksums=tmp_path / "sums")
    assert wrong.value.exit_code == 4
    allowed = wc.haul(tmp_path / "list.txt", into=tmp_path / "d", must_arrive=False)
    assert allowed.exit_code == 1
    (tmp_path / "list.txt").write_text(f"{place.base}/a.csv\nhtp:/slip.csv\n")
    with pytest.raises(wc.Incomplete, match="slip"):  # a line that could not be read is no file
        wc.haul(tmp_path / "list.txt", into=tmp_path / "d")


def test_slips_are_told_as_by_the_command(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"a")
    address = f"{place.base}/a.csv"
    with pytest.raises(wc.WillowCartError, match=r"lnes: unknown key.*did you mean lanes\?"):
        wc.survey(address, lnes=3)  # type: ignore[call-arg]
    with pytest.raises(wc.WillowCartError, match="is yes or no"):
        wc.survey(address, ask_sizes="please")  # type: ignore[arg-type]
    with pytest.raises(wc.WillowCartError, match="has no source"):
        wc.haul(into=tmp_path)
    with pytest.raises(wc.WillowCartError, match="takes no int"):
        wc.haul([1, 2], into=tmp_path)  # type: ignore[list-item]
    with pytest.raises(NothingChosen) as nothing:
        wc.survey(address, ext="zip")
    assert (nothing.value.offered, nothing.value.rule) == (1, "--ext zip")
    assert place.requests == [] or {each.method for each in place.requests} == {"HEAD"}


def test_a_cart_s_file_is_picked_in_and_weighed(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"x/a.csv": Exhibit(b"a" * 300), "x/b.txt": Exhibit(b"b" * 20)}
    path = tmp_path / "c.csv"
    wc.load([f"{place.base}/x/a.csv", f"{place.base}/x/b.txt"], cart=path, ask_sizes=True)
    picked = wc.pick(path, out=True, ext="txt")
    assert picked.changed is not None
    assert (picked.changed.files, picked.taken.files, len(picked.cart)) == (1, 1, 1)
    assert len(wc.pick(path, undo=True).cart) == 2
    with pytest.raises(wc.WillowCartError, match="give out=True, only=True"):
        wc.pick(path, ext="txt")
    weighed = wc.weigh(path, shares=2)
    frame = weighed.to_frame().set_index(["by", "name"])
    assert frame.loc[("kind", "table"), "bytes"] == 300
    assert sum(len(wc.Cart.load(part)) for part in weighed.parts) == 2
    assert "2 files, 320 B" in weighed._repr_html_()


def test_what_was_hauled_is_combined_packed_unpacked_and_filed_anew(
    tmp_path: Path, place: StandIn, capfd: pytest.CaptureFixture[str]
) -> None:
    place.exhibits |= {
        "a.csv": Exhibit(b"ring,when,n\n007,2031-05-01,1\n012,2031-05-02,\n"),
        "b.csv": Exhibit(b"ring,when,n\n100,2031-05-03,4\n"),
    }
    home = tmp_path / "d"
    wc.haul([f"{place.base}/a.csv", f"{place.base}/b.csv"], into=home)
    for ending in ("parquet", "csv", "jsonl", "sqlite"):
        combined = wc.combine(home, to=tmp_path / f"all.{ending}")
        frame = combined.to_frame().sort_values("ring")
        assert frame["ring"].tolist() == ["007", "012", "100"], ending
        assert frame["when"].max() == pandas.Timestamp(2031, 5, 3)
        assert frame["n"].isna().tolist() == [False, True, False]
    preview = wc.combine(home, preview=True)
    assert (preview.to, len(preview.to_frame())) == (None, 3)
    packed = wc.pack(home, to=tmp_path / "all.zip", keep="*.csv")
    assert packed.packed.files == 2
    unpacked = wc.unpack(packed.path, into=tmp_path / "u")
    assert [path.name for path in unpacked.paths if path.suffix == ".csv"] == ["a.csv", "b.csv"]
    assert wc.unpack(packed.path, into=tmp_path / "u").paths == unpacked.paths
    assert wc.refile(home, file_as="{ext}/{name}", preview=True).to_frame().shape == (2, 3)
    assert [move.new for move in wc.refile(home, file_as="{ext}/{name}").moves] == [
        "csv/a.csv",
        "csv/b.csv",
    ]
    assert wc.receipt(home).to_frame()["path"].tolist() == ["a.csv", "b.csv"]
    assert wc.receipt(home, runs=True).to_frame()["arrived"].max() == 2
    assert len(wc.receipt(home, of="a.csv").rows) >= 1
    assert "2 files" in wc.receipt(home, manifest="markdown").text
    page = wc.receipt(home, html=tmp_path / "r.html").path
    assert page is not None
    assert page.read_text().startswith("<!doctype html>")
    assert capfd.readouterr() == ("", "")


def test_what_cannot_be_done_is_an_error_that_has_the_rest(tmp_path: Path, place: StandIn) -> None:
    """One rule for every function that makes files."""
    place.exhibits |= {
        "a.csv": Exhibit(b"n\n1\n"),
        "b.xlsx": Exhibit(b"not a workbook"),
        "c.zip": Exhibit(b"PK\x03\x04 not to its end"),
        "p/": Exhibit(b'<img src="none.png"><a href="q.html">q</a>', media_type="text/html"),
    }
    home = tmp_path / "d"
    wc.haul([f"{place.base}/{name}" for name in ("a.csv", "b.xlsx", "c.zip")], into=home,
            must_arrive=False)  # fmt: skip
    (home / "a.csv").write_bytes(b"n\n2\n")
    short: dict[str, Callable[[bool], Any]] = {
        "combine": lambda all_of: wc.combine(home, to=tmp_path / "t.csv", must_arrive=all_of),
        "unpack": lambda all_of: wc.unpack(home / "c.zip", into=tmp_path / "u", must_arrive=all_of),
        "pack": lambda all_of: wc.pack(
            home, to=tmp_path / "p.zip", overwrite=True, must_arrive=all_of
        ),
        "refile": lambda all_of: wc.refile(home, file_as="x/{name}", must_arrive=all_of),
        "offline": lambda all_of: wc.offline(
            f"{place.base}/p/", into=tmp_path / "o", must_arrive=all_of
        ),
    }
    for name, call in short.items():
        with pytest.raises(wc.Incomplete, match=r"must_arrive=False") as raised:
            call(True)
        assert raised.value.exit_code == call(False).exit_code != 0, name
        assert type(raised.value.result) is type(call(False)), name


def test_a_place_is_tested(place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"a")
    good = wc.knock(f"{place.base}/a.csv")
    assert good.works
    assert set(good.to_frame()["verdict"]) <= {"ok", "unclear"}
    bad = wc.knock(f"{place.base}/none.csv")
    assert not bad.works
    assert "something does not work" in bad._repr_html_()


def test_a_cart_s_file_keeps_what_a_person_did(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"x/a.csv": Exhibit(b"a"), "x/b.csv": Exhibit(b"b")}
    path = tmp_path / "c.csv"
    assert len(wc.load(f"{place.base}/x/", cart=path)) == 2
    assert run("pick", path, "--out", "--keep", "b*", cwd=tmp_path).code == 0
    place.exhibits["x/c.csv"] = Exhibit(b"c")
    again = wc.load(f"{place.base}/x/", cart=path)
    assert [offer.file_name for offer in again] == ["a.csv", "c.csv"]
    wc.haul(path, into=tmp_path / "d")
    assert set(files_in(tmp_path / "d")) == {"a.csv", "c.csv"}


def test_audits_find_and_mend(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"a.csv": Exhibit(b"a"), "b.csv": Exhibit(b"b")}
    wc.haul(f"{place.base}/{{a,b}}.csv", into=tmp_path / "d")
    (tmp_path / "d" / "a.csv").write_bytes(b"z")
    found = wc.audit(tmp_path / "d")
    assert (found.exit_code, found.found[0].path) == (4, "a.csv")
    assert found.to_frame()["finding"].tolist() == ["changed", "unchanged"]
    mended = wc.audit(tmp_path / "d", repair=True)
    assert mended.repaired is not None
    assert (mended.exit_code, (tmp_path / "d" / "a.csv").read_bytes()) == (0, b"a")


def test_an_errand_is_run_where_its_file_is(
    tmp_path: Path, place: StandIn, capfd: pytest.CaptureFixture[str]
) -> None:
    place.exhibits["a_2031.csv"] = Exhibit(b"t\n1\n")
    (tmp_path / "jobs").mkdir()
    job = tmp_path / "jobs" / "job.toml"
    job.write_text(
        f'into = "d"\n[values]\nyear = 2030\n[[source]]\nfrom = "{place.base}/a_{{year}}.csv"\n'
        '[[step]]\ncombine = "all.csv"\n'
    )
    before = Path.cwd()
    with pytest.raises(wc.Incomplete) as gone:
        wc.errand(job)
    assert (gone.value.exit_code, Path.cwd()) == (1, before)
    assert "1 file, 1 size unknown" in wc.errand(job, values={"year": 2031}, preview=True).output
    done = wc.errand(job, values={"year": 2031})
    assert "1 file: arrived" in str(done)
    assert (tmp_path / "jobs" / "all.csv").read_text() == "source_file,t\na_2031.csv,1\n"
    with pytest.raises(BadOption, match="not a step of the errand"):
        wc.errand(job, begin=0)
    combined = wc.errand(job, values={"year": 2031}, begin="combine")
    assert "arrived" not in combined.output
    assert capfd.readouterr() == ("", "")


def test_all_public_names_are_found_by_completion() -> None:
    names = [name for name in dir(wc) if not name.startswith("__")]
    assert names == sorted(name for name in wc.__all__ if not name.startswith("__"))
    assert {"survey", "peek", "haul", "combine", "errand", "Haul", "PeekResult"} <= set(names)


def test_errands_of_several_threads_do_not_mix(tmp_path: Path, place: StandIn) -> None:
    for name in "abcd":
        place.exhibits[f"{name}.csv"] = Exhibit(name.encode())
        (tmp_path / name).mkdir()
        errand = f'into = "data"\n[[source]]\nfrom = "{place.base}/{name}.csv"\n'
        (tmp_path / name / "job.toml").write_text(errand)
    threads = [
        threading.Thread(target=wc.errand, args=(tmp_path / name / "job.toml",)) for name in "abcd"
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for name in "abcd":
        assert files_in(tmp_path / name / "data") == {f"{name}.csv": name.encode()}


def test_threads_haul_side_by_side(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"{name}.csv": Exhibit(name.encode()) for name in "abcd"}
    hauls: list[wc.Haul] = []

    def bring(name: str) -> None:
        hauls.append(wc.haul(f"{place.base}/{name}.csv", into=tmp_path / name))

    threads = [threading.Thread(target=bring, args=(name,)) for name in "abcd"]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(haul.path.read_bytes() for haul in hauls) == [b"a", b"b", b"c", b"d"]


INTERRUPTED = """
import sys, willow_cart as wc
try:
    wc.haul(sys.argv[1], into="d")
except KeyboardInterrupt:
    print("goes on later")
"""


def test_an_interrupt_leaves_the_script_running_and_the_next_call_goes_on(
    tmp_path: Path, place: StandIn
) -> None:
    content = os.urandom(600_000)
    place.exhibits["a.bin"] = Exhibit(content, speed=200_000)
    script = subprocess.Popen(
        [sys.executable, "-c", INTERRUPTED, f"{place.base}/a.bin"], cwd=tmp_path,
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    part = tmp_path / "d" / ".willow" / "partial"
    while not (part.is_dir() and any(each.stat().st_size > 50_000 for each in part.iterdir())):
        assert script.poll() is None
    script.send_signal(signal.SIGINT)
    assert script.communicate(timeout=PATIENCE)[0] == "goes on later\n"
    place.exhibits["a.bin"].speed = None
    done = wc.haul(f"{place.base}/a.bin", into=tmp_path / "d")
    assert done.path.read_bytes() == content
    assert done.account.received < len(content)


def test_the_notebook_runs_on_the_stand_ins(tmp_path: Path) -> None:
    read: Any = nbformat.read  # it has no annotations
    notebook = read(ROOT / "docs" / "notebook.ipynb", as_version=4)
    client = NotebookClient(notebook, timeout=60, resources={"metadata": {"path": tmp_path}})
    client.execute()
    outputs = [
        output.get("text") or output.get("data", {}).get("text/plain", "")
        for cell in notebook.cells
        for output in cell.get("outputs", ())
    ]
    told = "\n".join(outputs)
    assert (
        "<Survey: 9 files, 33.7 kB, of 29 offered; 1 further page not followed (--pages all)>"
        in told
    )
    assert "6 files: all unchanged" in told
    assert "22 arrived, 1 refused" in told
    assert "31 tables, 4,464 rows; written to report.sqlite" in told
    assert "Warning" not in told
    assert all(not cell.get("outputs") for cell in read(
        ROOT / "docs" / "notebook.ipynb", as_version=4).cells)  # fmt: skip


def test_calls_at_the_same_time_do_not_hear_each_other(tmp_path: Path, place: StandIn) -> None:
    """Each is notified of its own troubles, also by its lanes, and of no other's."""
    names = "abcd"
    place.exhibits |= {f"{n}.csv": Exhibit(b"x" * 9, breaks=[3]) for n in names}
    heard: dict[str, tuple[str, ...]] = {}

    def bring(name: str) -> None:
        address = f"{place.base}/{name}.csv"
        heard[name] = wc.haul(address, into=tmp_path / name, pause=0.01, progress=False).notes

    threads = [threading.Thread(target=bring, args=(name,)) for name in names]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for name in names:
        assert any(f"{name}.csv: the connection broke" in note for note in heard[name])
        others = [other for other in names if other != name]
        assert not any(f"{other}.csv" in note for note in heard[name] for other in others)


def test_progress_is_told_in_lines_where_there_is_no_terminal(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["a.csv"] = Exhibit(b"1")
    script = f"import willow_cart as wc; wc.haul('{place.base}/a.csv', into='d', progress=%s)"
    for progress, said in (("True", "1 offered, 1 chosen: arrived (1 B in "), ("False", "")):
        done = subprocess.run(
            [sys.executable, "-c", script % progress], cwd=tmp_path, capture_output=True, text=True,
            check=True, timeout=PATIENCE,
        )  # fmt: skip
        assert done.stdout == ""
        assert done.stderr.startswith(said)
        assert bool(done.stderr) is bool(said)
