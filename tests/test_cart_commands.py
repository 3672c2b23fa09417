"""load, pick, weigh and haul with carts: the built program on files, against live servers."""

from __future__ import annotations

import csv
import io
import os
import threading
from pathlib import Path

import pytest
from lxml import etree

from tests.support.program import Outcome, files_in, run, sha256, start
from willow_cart.cart.picking import undo
from willow_cart.demo import harrowmere
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.platform import files


@pytest.fixture
def hides(tmp_path: Path, trust_site: StandIn) -> Path:
    """An analyst's folder with a cart of the hides' sounds, their sizes asked for."""
    assert load_sounds(tmp_path, trust_site).code == 0
    return tmp_path


def load_sounds(folder: Path, site: StandIn, *more: str) -> Outcome:
    source = f"{site.base}/sounds/"
    cart = ("--cart", "sounds.csv")
    return run("load", source, "--depth", "all", "--ask-sizes", *cart, *more, cwd=folder)


def table(path: Path) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(path.read_bytes().decode(), newline="")))


def names_taken(path: Path) -> list[str]:
    return [row["name"] for row in table(path) if row["take"] == "yes"]


def test_the_sounds_come_in_two_formats_one_is_dropped_and_the_rest_weighed_and_split(
    hides: Path, trust_site: StandIn
) -> None:
    sounds = {
        path.removeprefix("sounds/"): content
        for path, content in harrowmere.make_site().items()
        if path.startswith("sounds/")
    }
    wavs = {path: content for path, content in sounds.items() if path.endswith(".wav")}
    picked = run("pick", "sounds.csv", "--only", "--prefer", "wav,au", cwd=hides)
    total = sum(map(len, wavs.values()))
    assert picked.last_line == (
        "sounds.csv: taken out: 6 files, 624 kB; taken now: 6 files, 1.25 MB"
    )
    weighed = run("weigh", "sounds.csv", "--speed", "500kB/s", "--json", cwd=hides).json()
    assert weighed["taken"]["files"] == 6
    assert weighed["taken"]["bytes_known"] == total == weighed["bytes_needed"]
    assert (weighed["not_taken"], weighed["fits"]) == (6, True)
    assert weighed["seconds"] == total / 500_000
    assert {name: each["files"] for name, each in weighed["folders"].items()} == {
        "2031-04": 3, "2031-05": 3,
    }  # fmt: skip
    assert [each["size"] for each in weighed["largest"]] == sorted(map(len, wavs.values()))[::-1]
    text = run("weigh", "sounds.csv", "--drives", "700kB,700kB", cwd=hides)
    assert "sounds.csv: 6 files, 1.25 MB; 6 rows not taken" in text.out
    parts = [names_taken(hides / f"sounds.drive-{number}.csv") for number in (1, 2)]
    assert sorted(map(len, parts)) == [3, 3]

    for number in (1, 2):
        hauled = run("haul", f"sounds.drive-{number}.csv", "--into", "home", cwd=hides)
        assert hauled.code == 0, hauled.err
    assert files_in(hides / "home") == wavs
    there = run("weigh", "sounds.csv", "--into", "home", "--json", cwd=hides).json()
    assert (there["here_already"], there["bytes_needed"]) == (6, 0)
    refused = run("weigh", "sounds.csv", "--drives", "700kB,100kB", cwd=hides)
    assert refused.code == 1
    assert "do not fit" in refused.err
    assert {each.status for each in trust_site.requests} == {200}


def test_loading_again_keeps_what_a_person_did_and_says_what_changed(
    hides: Path, trust_site: StandIn
) -> None:
    run("pick", "sounds.csv", "--out", "--ext", "au", cwd=hides)
    del trust_site.exhibits["sounds/2031-04/alder_dawn.wav"]
    trust_site.exhibits["sounds/2031-05/alder_dawn.wav"].content += b"more"
    trust_site.exhibits["sounds/2031-05/new.wav"] = Exhibit(b"new")
    again = load_sounds(hides, trust_site)
    assert again.last_line.startswith("sounds.csv: 13 rows, 1 new, 1 renewed, 1 gone; taken: 7")
    assert "1 file no longer offered; marked in the column gone" in again.err
    (gone,) = (row for row in table(hides / "sounds.csv") if row["gone"])
    assert (gone["name"], gone["take"]) == ("alder_dawn.wav", "yes")
    out = run("pick", "sounds.csv", "--out", "--gone", cwd=hides)
    assert out.last_line.startswith("sounds.csv: taken out: 1 file, 200 kB; taken now: 6 files")

    other = run("load", f"{trust_site.base}/hides/2031.html", "--cart", "sounds.csv", cwd=hides)
    assert other.code == 2
    assert "already contains files of another source" in other.err
    more = ["--ext", "csv", "--add", "--cart", "sounds.csv"]
    added = run("load", f"{trust_site.base}/hides/2031.html", *more, cwd=hides)
    assert added.last_line.startswith("sounds.csv: 22 rows, 9 new")
    weighed = run("weigh", "sounds.csv", cwd=hides)
    assert "9 sizes unknown (--ask-sizes asks the servers)" in weighed.out
    asked = run("weigh", "sounds.csv", "--ask-sizes", cwd=hides)
    assert "unknown" not in asked.out
    assert all(row["size"] for row in table(hides / "sounds.csv")), "what was asked is noted"


def test_picking_is_undone_and_redone_but_never_over_a_person_s_changes(hides: Path) -> None:
    cart = hides / "sounds.csv"
    before = cart.read_bytes()
    assert run("pick", "sounds.csv", "--out", "--numbers", "2-4,9", cwd=hides).code == 0
    picked = cart.read_bytes()
    assert [row["number"] for row in table(cart) if not row["take"]] == ["2", "3", "4", "9"]
    for content in (before, picked, before):
        assert run("pick", "sounds.csv", "--undo", cwd=hides).code == 0
        assert cart.read_bytes() == content
    run("pick", "sounds.csv", "--out", "--ext", "au", cwd=hides)
    cart.write_bytes(cart.read_bytes() + b"yes,,,,,,,,,,,http://h.example/mine.csv\r\n")
    os.utime(cart, (1, 1))
    refused = run("pick", "sounds.csv", "--undo", cwd=hides)
    assert refused.code == 2
    assert "was changed after the last picking" in refused.err
    assert b"mine.csv" in cart.read_bytes()


def test_what_pick_cannot_do_is_said_and_the_cart_left_alone(hides: Path) -> None:
    before = (hides / "sounds.csv").read_bytes()
    (hides / "list.txt").write_text("http://h.example/a.csv\n")
    for arguments, code, said in (
        (["sounds.csv", "--out", "--ext", "png"], 3, "--ext png excluded all 12 offers"),
        (["sounds.csv", "--back"], 3, "no row would be changed by this"),
        (["sounds.csv", "--out", "--column", "2"], 2, "not recorded in carts"),
        (["sounds.csv"], 2, "selecting rows needs a terminal"),
        (["nothing.csv", "--out"], 2, "no such cart"),
        (["sounds.csv", "--undo"], 2, "there is nothing to undo"),
        (["sounds.csv", "--out", "--numbers", ""], 2, "--numbers: is empty"),
        (["sounds.csv", "--out", "--prefer", ","], 2, "--prefer: is empty"),
        (["list.txt", "--out"], 2, "not a cart: has no column named url; convert it with load"),
    ):
        outcome = run("pick", *arguments, cwd=hides)
        assert (outcome.code, len(outcome.err.splitlines())) == (code, 1), outcome.err
        assert said in outcome.err
    assert (hides / "sounds.csv").read_bytes() == before
    unsure = run("pick", "sounds.csv", "--out", "--since", "2031-01-01", "--drop", "*", cwd=hides)
    assert unsure.code == 3


def test_an_undo_that_is_killed_loses_neither_state(
    hides: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    run("pick", "sounds.csv", "--out", "--ext", "wav", cwd=hides)
    cart = hides / "sounds.csv"
    after, before = cart.read_text(), (hides / ".sounds.csv.before").read_text()
    assert after != before
    replace, left = files.replace, [0]

    def killed(source: Path, target: Path) -> None:
        if not left[0]:
            raise KeyboardInterrupt
        left[0] -= 1
        replace(source, target)

    for steps in range(2):
        left[0] = steps
        with monkeypatch.context() as patch:
            patch.setattr(files, "replace", killed)
            with pytest.raises(KeyboardInterrupt):
                undo(cart)
        assert cart.read_text() == (after, before)[steps]
    assert run("pick", "sounds.csv", "--undo", cwd=hides).code == 0
    assert cart.read_text() == after
    assert run("pick", "sounds.csv", "--undo", cwd=hides).code == 0
    assert cart.read_text() == before


def test_a_rule_that_cannot_tell_leaves_a_row_as_it_is(tmp_path: Path) -> None:
    rows = "take,url,size\nyes,http://h.example/a,5\nyes,http://h.example/b,\n"
    for way, taken in (("--out", [""]), ("--only", ["yes", "yes"])):
        (tmp_path / "c.csv").write_text(rows)
        run("pick", "c.csv", way, "--at-least", "1", cwd=tmp_path)
        assert [row["take"] for row in table(tmp_path / "c.csv")] == [*taken, "yes"][:2]


def test_a_cart_that_does_not_fit_is_refused_with_figures(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"small")
    (tmp_path / "c.csv").write_text(f"url,size\n{place.base}/a.csv,900 TB\n")
    refused = run("haul", "c.csv", "--into", "home", cwd=tmp_path)
    assert refused.code == 1
    assert "home: 900 TB needed, but only" in refused.err
    assert not (tmp_path / "home").exists()
    weighed = run("weigh", "c.csv", "--into", "home", "--json", cwd=tmp_path).json()
    assert not weighed["fits"]
    assert run("haul", "c.csv", "--into", "home", "--even-if-full", cwd=tmp_path).code == 0
    assert files_in(tmp_path / "home") == {"a.csv": b"small"}


def test_a_haul_leaves_its_cart_behind(hides: Path, trust_site: StandIn) -> None:
    source = [f"{trust_site.base}/sounds/2031-05/", "--ext", "au"]
    hauled = run("haul", *source, "--into", "home", "--cart", "left.csv", cwd=hides)
    assert hauled.code == 0, hauled.err
    assert names_taken(hides / "left.csv") == sorted(files_in(hides / "home"))
    again = run("haul", "left.csv", "--into", "home", cwd=hides)
    assert again.last_line.startswith("3 offered, 3 chosen: all unchanged")


def test_a_cart_goes_out_and_comes_back_in_every_form(hides: Path) -> None:
    wanted = {row["url"] for row in table(hides / "sounds.csv")}
    (hides / "bag").mkdir()
    for form in ("list.txt", "sounds.jsonl", "sounds.meta4", "bag/fetch.txt", "sounds.tsv"):
        out = run("load", "sounds.csv", "--cart", form, cwd=hides)
        assert out.last_line.startswith(f"{form}: 12 files, 1.87 MB"), out.err
        survey = run("survey", form, "--json", cwd=hides).json()
        assert {each["url"] for each in survey["offers"]} == wanted
        assert form == "list.txt" or survey["sizes_unknown"] == 0
        assert run("load", form, "--cart", f"{form}.back.csv", cwd=hides).code == 0
        if form != "sounds.tsv":
            refused = run("load", "sounds.csv", "--cart", form, cwd=hides)
            assert refused.code == 2
            assert "already exists" in refused.err
    (hides / "sums.csv").write_text(f"url,checksum\nhttp://h.example/a,sha256:{'ab' * 32}\n")
    lost = run("load", "sums.csv", "--cart", "sums.txt", cwd=hides)
    assert "1 checksum left out: a list of addresses cannot hold them" in lost.err


def test_mirrors_are_tried_in_turn(tmp_path: Path, place: StandIn) -> None:
    content = b"level" * 40_000
    with StandIn({"a.csv": Exhibit(content), "b.csv": Exhibit(b"other")}) as mirror:
        place.exhibits["a.csv"] = Exhibit(content, breaks=[70_000] * 9, ranges=False)
        place.exhibits["b.csv"] = Exhibit(b"spoilt")
        hosts = [place.base, mirror.base]
        rows = ["url;checksum"]
        rows.append(f"{' '.join(f'{h}/a.csv' for h in hosts)};sha256:{sha256(content)}")
        rows.append(f"{' '.join(f'{h}/b.csv' for h in hosts)};sha256:{sha256(b'other')}")
        rows.append(f"{place.base}/c.csv {mirror.base}/c.csv;")
        (tmp_path / "c.csv").write_text("\n".join(rows))
        hauled = run("haul", "c.csv", "--into", "home", "--attempts", "1", cwd=tmp_path)
        asked = {each.path: each.fields.get("range") for each in mirror.requests}
    assert hauled.code == 1
    assert files_in(tmp_path / "home") == {"a.csv": content, "b.csv": b"other"}
    assert hauled.last_line.startswith("3 offered, 3 chosen: 2 arrived, 1 failed")
    assert f"b.csv: sha256 mismatch: got {sha256(b'spoilt')[:12]}" in hauled.err
    assert f"trying mirror {mirror.base}/b.csv" in hauled.err
    begun = "bytes=70000-"  # the checksum proves that the parts fit
    assert asked == {"/a.csv": begun, "/b.csv": None, "/c.csv": None}
    rows_there = run("receipt", "home", "--json", cwd=tmp_path).json()["files"]
    assert {each["path"]: each["state"] for each in rows_there}["a.csv"] == "arrived"


def test_a_kill_while_a_cart_is_written_leaves_it_whole(hides: Path, trust_site: StandIn) -> None:
    """The first answer comes, then none: the cart is written only when all is known."""
    before = (hides / "sounds.csv").read_bytes()
    came = threading.Event()

    def hang(handler: StandInHandler) -> None:
        came.set()
        handler.rfile.read(1)

    trust_site.exhibits["sounds/2031-05/causeway_dawn.wav"].script = hang
    source = [f"{trust_site.base}/sounds/", "--depth", "all", "--ask-sizes"]
    process = start("load", *source, "--cart", "sounds.csv", cwd=hides)
    assert came.wait(30)
    process.kill()
    process.communicate()
    assert (hides / "sounds.csv").read_bytes() == before


def test_a_figure_is_drawn_with_the_figures_in_it(hides: Path) -> None:
    run("pick", "sounds.csv", "--out", "--ext", "au", cwd=hides)
    rows = (hides / "sounds.csv").read_text()
    (hides / "sounds.csv").write_text(rows.replace(",232044,", ",,").replace("2031-04,", "$x$,"))
    drawn = run("weigh", "sounds.csv", "--figure", "sounds.svg", cwd=hides)
    assert "drawn in sounds.svg" in drawn.err
    root = etree.parse(hides / "sounds.svg").getroot()
    words = " ".join(each.text or "" for each in root.iter("{*}text"))
    assert "sounds.csv: 6 files, 1.02 MB and 1 size unknown" in words
    assert "416 kB in 3 files, 1 of them unknown" in words
    assert "$x$" in words, "a name is no formula"
    run("weigh", "sounds.csv", "--figure", "sounds.png", cwd=hides)
    assert (hides / "sounds.png").read_bytes().startswith(b"\x89PNG")
    odd = run("weigh", "sounds.csv", "--figure", "sounds.gif", cwd=hides)
    assert "is neither .png nor .svg" in odd.err


def test_carts_of_european_spreadsheets_are_written_and_read(
    tmp_path: Path, trust_site: StandIn
) -> None:
    load_sounds(tmp_path, trust_site, "--delimiter", "semicolon")
    cart = tmp_path / "sounds.csv"
    assert cart.read_bytes().startswith(b"\xef\xbb\xbftake;number;name;")
    words = ["JA", "Oui", "WAHR", "X", "sí", "NEIN", "Faux", "não", ""]
    rows = cart.read_text("utf-8-sig").splitlines()[: len(words) + 1]
    pairs = zip(words, rows[1:], strict=True)
    marked = [rows[0], *(f"{word};{row.partition(';')[2]}" for word, row in pairs)]
    cart.write_text("\n".join(marked) + "\n", "utf-8-sig")
    weighed = run("weigh", "sounds.csv", "--json", cwd=tmp_path).json()
    assert (weighed["taken"]["files"], weighed["not_taken"]) == (5, 4)
    # Loaded again, it stays as it is written, unless another way is asked for.
    load_sounds(tmp_path, trust_site)
    assert cart.read_bytes().startswith(b"\xef\xbb\xbftake;")
    load_sounds(tmp_path, trust_site, "--delimiter", "comma")
    assert cart.read_bytes().startswith(b"take,number")


def test_a_table_without_addresses_has_one_message(tmp_path: Path) -> None:
    (tmp_path / "levels.csv").write_text("day,level\n1,2\n3,4\n")
    told = run("survey", "levels.csv", cwd=tmp_path)
    assert told.code == 2
    assert told.err == (
        "willow-cart: levels.csv: has no column named url; name the column of addresses url\n"
    )
