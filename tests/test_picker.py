"""The picker, driven by keys, and the overview by folder."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import run
from willow_cart.cart.cart_view import CartView, FolderTree
from willow_cart.cart.loading import Find, load
from willow_cart.cart.picking import mark_in
from willow_cart.cli.picker.app import TickingApp
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import BadOption
from willow_cart.model import Offer


def press(
    tray: CartView,
    *keys: str,
    size: tuple[int, int] = (80, 24),
    peek: Callable[[Offer], list[str]] = lambda _: [],
    room: int | None = None,
) -> tuple[bool | None, str]:
    """What the view returns after some keys, and what it shows before it ends."""

    async def drive() -> tuple[bool | None, str]:
        app = TickingApp(tray, peek, room)
        async with app.run_test(size=size) as pilot:
            await pilot.pause()
            await app.workers.wait_for_complete()
            await pilot.press(*keys[:-1])
            await app.workers.wait_for_complete()
            await pilot.pause()
            lines = app.screen._compositor.render_strips()
            await pilot.press(keys[-1])
        return app.return_value, "\n".join(strip.text for strip in lines)

    return asyncio.run(drive())


def tray_of(folder: Path, count: int = 60) -> CartView:
    offers = [
        Offer(f"http://h.example/{day % 3}/{day:02d}.{('wav', 'csv')[day % 2]}", "s", size=100)
        for day in range(count)
    ]
    load(
        Find((each, True) for each in offers),
        folder / "c.csv",
        today=__import__("datetime").date(2031, 6, 1),
    )
    return CartView(folder / "c.csv")


def unticked(tray: CartView) -> list[int]:
    return [index for index, mark in enumerate(tray.marks) if not mark]


def test_rows_are_ticked_by_keys_and_saved(tmp_path: Path) -> None:
    tray = tray_of(tmp_path)
    saved, shown = press(tray, "space", "down", "space", "end", "space", "enter")
    assert saved is True
    assert unticked(tray) == [0, 2, 59]
    assert "60 rows; taken: 57 files, 5.70 kB" in shown
    assert all(len(line) <= 80 for line in shown.splitlines())
    assert len(shown.splitlines()) <= 24
    assert "[ ]      60  2/59.csv" in shown, "the list has moved to its end"
    assert tray.taken.files == 57


def test_groups_and_what_a_filter_shows_are_ticked_at_once(tmp_path: Path) -> None:
    tray = tray_of(tmp_path)
    _, shown = press(tray, *"k", "down", *"f", "q")
    assert unticked(tray) == [n for n in range(60) if n % 2 == 0 or n % 3 == 1]
    tray = tray_of(tmp_path)
    _, shown = press(tray, "/", *"0/*3", "enter", "a", "q")
    assert "5 visible, Esc shows all" in shown
    assert unticked(tray) == [3, 30, 33, 36, 39]
    _, shown = press(tray, "/", *"nothing", "enter", "space", "a", "escape", "q")
    assert "Esc shows all" not in shown


def test_folders_of_any_depth_are_ticked_beside_the_rows(tmp_path: Path) -> None:
    tray = tray_of(tmp_path)
    _, shown = press(tray, "t", "down", "space", "q", size=(120, 24), room=5000)
    assert [line[:47].split() for line in shown.splitlines()[1:5]] == [
        ["[-]", "-", "all", "folders", "40/60", "4.00", "kB"],
        ["[", "]", "0/", "0/20", "0", "B"],
        ["[x]", "1/", "20/20", "2.00", "kB"],
        ["[x]", "2/", "20/20", "2.00", "kB"],
    ]
    assert "60 rows; taken: 40 files, 4.00 kB; 5.00 kB free; 20 visible, Esc shows all" in shown
    assert unticked(tray) == [n for n in range(60) if n % 3 == 0]
    # The filter holds within a folder, and ticks what it leaves there.
    tray = tray_of(tmp_path)
    _, shown = press(tray, "/", *"wav", "tab", "t", "down", "down", "space", "q")
    assert unticked(tray) == [n for n in range(60) if n % 3 == 1 and n % 2 == 0]
    _, shown = press(tray_of(tmp_path), "t", "left", "t", "q")
    assert "Esc shows all" not in shown, "without the folders, all rows are there"


def test_all_words_of_a_filter_count_and_it_works_while_typing(tmp_path: Path) -> None:
    _, shown = press(tray_of(tmp_path), "/", *"csv", "space", *"1/", "q")
    assert "10 visible, Esc shows all" in shown
    tray = tray_of(tmp_path)
    tray.show("1/ [0-3]?.csv")
    assert [tray[index].path for index in tray.shown] == [
        "1/01.csv", "1/07.csv", "1/13.csv", "1/19.csv", "1/25.csv", "1/31.csv", "1/37.csv",
    ]  # fmt: skip


def test_the_file_of_a_row_is_looked_into(tmp_path: Path) -> None:
    looked: list[str] = []

    def peek(offer: Offer) -> list[str]:
        looked.append(offer.address)
        return ["level_m (real)", "\x1b[2J1.0"]

    _, shown = press(tray_of(tmp_path), "down", "p", "escape", "q", peek=peek)
    assert looked == ["http://h.example/1/01.csv"]
    _, shown = press(tray_of(tmp_path), "p", "q", peek=peek)
    assert "level_m (real)" in shown
    assert r"\x1b[2J1.0" in shown
    assert "\x1b" not in shown


@given(
    st.lists(
        st.tuples(st.lists(st.sampled_from("abc"), max_size=5), st.integers(0, 99)), max_size=40
    )
)
def test_sums_of_folders_are_those_of_all_files_below(files: list[tuple[list[str], int]]) -> None:
    tree = FolderTree()
    for number, (folders, size) in enumerate(files):
        path = "/".join([*folders, f"{number}.csv"])
        tree.add(Offer(f"http://h.example/{path}", "s", size=size))
    sums = tree.sums()
    seen = list(tree.walk())
    assert sorted(seen) == list(range(len(tree)))
    assert [tree.path_of(n) for n in seen] == sorted(tree.path_of(n) for n in seen)
    for number in seen:
        path = tree.path_of(number)
        below = [
            size for folders, size in files if "".join(f"{f}/" for f in folders).startswith(path)
        ]
        assert (sums[number].files, sums[number].exact) == (len(below), sum(below))
        within = tree.within(number)
        assert {tree.path_of(n) for n in seen if within[n]} == {
            tree.path_of(n) for n in seen if tree.path_of(n).startswith(path)
        }


def test_an_overview_by_folder_replaces_the_list(tmp_path: Path, place: StandIn) -> None:
    for year in (2029, 2030):
        for name in ("spring/a.csv", "spring/b.csv", "notes.txt"):
            place.exhibits[f"old/{year}/{name}"] = Exhibit(b"x" * 1000)
    source = f"{place.base}/old/"
    words = ("survey", source, "--depth", "all", "--ask-sizes", "--folders")
    told = run(*words, cwd=tmp_path)
    rows = [line.split()[:4] for line in told.out.splitlines()[1:8]]
    assert rows == [
        ["./", "6", "6.00", "kB"],
        ["2029/", "3", "3.00", "kB"],
        ["2029/spring/", "2", "2.00", "kB"],
        ["2030/", "3", "3.00", "kB"],
        ["2030/spring/", "2", "2.00", "kB"],
        [],
        ["6", "offers,", "6", "chosen:"],
    ]
    told = run(*words, "--levels", "1", "--json", "--ext", "csv", cwd=tmp_path)
    assert [(row["folder"], row["files"], row["bytes_known"]) for row in told.json()] == [
        ("./", 4, 4000), ("2029/", 2, 2000), ("2030/", 2, 2000),
    ]  # fmt: skip
    told = run(*words, "--levels", "1", "--csv", cwd=tmp_path)
    assert told.out.splitlines()[1].startswith("./,6,6000,0,0,2")
    for wrong in (["--why"], ["--tree"]):
        told = run(*words, *wrong, cwd=tmp_path)
        assert (told.code, wrong[0] in told.err) == (2, True)
    assert run("survey", source, "--levels", "1", cwd=tmp_path).code == 2


def test_what_is_not_saved_is_asked_about_once(tmp_path: Path) -> None:
    tray = tray_of(tmp_path)
    before = (tmp_path / "c.csv").read_bytes()
    saved, shown = press(tray, "space", "q", "q")
    assert saved is False
    assert "not saved" in shown
    assert (tmp_path / "c.csv").read_bytes() == before
    assert press(tray_of(tmp_path), "q")[0] is False, "nothing to ask about"


def test_a_cart_that_is_saved_elsewhere_meanwhile_is_left_alone(tmp_path: Path) -> None:
    tray = tray_of(tmp_path)
    assert press(tray, "space", "enter")[0] is True
    cart = tmp_path / "c.csv"
    cart.write_bytes(cart.read_bytes() + b"yes,,,,,,,,,,,http://h.example/mine.csv\r\n")
    os.utime(cart, (1, 1))
    with pytest.raises(BadOption, match="was changed by another program"):
        mark_in(tray.sheet, map(bool, tray.marks))
    assert b"mine.csv" in cart.read_bytes()
    picked = mark_in(CartView(cart).sheet, [False] * 61)
    assert (picked.changed.files, picked.taken.files) == (61, 0)


def test_names_in_the_view_do_not_steer_the_terminal_and_fit_a_narrow_one(tmp_path: Path) -> None:
    (tmp_path / "c.csv").write_text(
        f"url,name\nhttp://h.example/a,\x1b[2J[red]x.csv\nhttp://h.example/b,{'long' * 50}.csv\n"
    )
    _, shown = press(CartView(tmp_path / "c.csv"), "down", "q", size=(40, 10))
    assert "\x1b" not in shown
    assert r"\x1b[2J[red]x.csv" in shown
    assert "…" in shown
