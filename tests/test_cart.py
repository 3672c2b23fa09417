"""Carts by themselves: written, mangled by spreadsheets, read back, picked, weighed and split."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.support.offers import offers
from willow_cart import Cart, Choosing, NotEntered, Way
from willow_cart.cart.cells import is_day_first, read_bytes, read_date
from willow_cart.cart.columns import COLUMNS
from willow_cart.cart.loading import Find, load
from willow_cart.cart.rows import RowReader, Unread, write_table
from willow_cart.cart.sheet import Sheet
from willow_cart.cart.splitting import CartPart, DrivePacking, SharePacking, split
from willow_cart.errors import (
    BadOption,
    CannotStore,
    NothingChosen,
    UnreadableSource,
    WillowCartError,
)
from willow_cart.model import Issue, Offer, Sizes, sum_of
from willow_cart.sources.listing import Discovery, Why

TODAY = date(2031, 6, 1)
carts = st.lists(st.tuples(offers, st.booleans()), max_size=6)
# Each example makes its own files.
in_files = settings(suppress_health_check=[HealthCheck.function_scoped_fixture])


def told_apart(offer: Offer) -> tuple[object, ...]:
    """What a cart keeps of an offer."""
    return (
        offer.address, offer.mirrors, offer.path, offer.size, offer.about, offer.modified,
        set(offer.checksums), offer.text, offer.heading, offer.source, offer.number,
    )  # fmt: skip


def offer(path: str, size: int | None = None, **more: object) -> Offer:
    folder, _, name = path.rpartition("/")
    address = f"http://h.example/{path.replace(' ', '%20')}"
    return Offer(address, "s", name=name, folder=folder, size=size, **more)  # type: ignore[arg-type]


def sheet_of(raw: bytes, place: str = "cart.csv") -> Sheet:
    return Sheet(lambda: io.BytesIO(raw), place)


def entries(raw: bytes) -> tuple[list[tuple[Offer, bool]], list[Issue], list[str]]:
    reader = RowReader(sheet_of(raw))
    understood, troubles = [], []
    for entry in reader.entries():
        if isinstance(entry, Unread):
            troubles.append(entry.trouble)
        else:
            understood.append((entry.offer, entry.taken))
    return understood, troubles, reader.oddities.told("cart.csv")


def written(rows: Iterable[tuple[Offer, bool]]) -> str:
    text = io.StringIO(newline="")
    write_table(rows, text)
    return text.getvalue()


def cart_file(folder: Path, rows: Iterable[Offer], name: str = "cart.csv") -> Path:
    path = folder / name
    path.unlink(missing_ok=True)
    load(Find((each, True) for each in rows), path, today=TODAY)
    return path


def rows_of(path: Path) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(path.read_bytes().decode(), newline="")))


# Written and read


@given(carts)
def test_a_cart_is_read_back_as_it_was_written_and_runs_nowhere(
    rows: list[tuple[Offer, bool]],
) -> None:
    text = written(rows)
    for row in csv.reader(io.StringIO(text, newline="")):
        assert not any(cell.startswith(("=", "+", "-", "@", "\t", "\r")) for cell in row)
    read, troubles, oddities = entries(text.encode())
    assert not troubles
    assert not oddities
    assert [(told_apart(o), taken) for o, taken in read] == [
        (told_apart(o), taken) for o, taken in rows
    ]


def as_a_spreadsheet_has_it(column: str, cell: str, rng: st.DataObject) -> str:
    """The same cell after one of the things that spreadsheets and people do to it."""
    draw = rng.draw
    if column == "take":
        same = ["Yes", "YES", "x", "1", "TRUE", "y"] if cell else ["", "no", "No", "0", "FALSE"]
        return draw(st.sampled_from(same))
    if column == "size" and cell.isdigit():
        mark = draw(st.sampled_from([",", ".", " ", "\u00a0", "\u202f", "'", ""]))
        return f"{int(cell):,}".replace(",", mark) if mark != "'" or len(cell) > 3 else cell
    if column == "modified" and cell:
        moment = datetime.fromisoformat(cell)
        if moment.microsecond:
            return cell
        shapes = [
            "%Y-%m-%d %H:%M:%S",
            "%Y/%m/%d %H:%M:%S",
            "%d.%m.%Y %H:%M:%S",
            "%d %b %Y %H:%M:%S",
        ]
        return moment.strftime(draw(st.sampled_from(shapes)))
    if column == "kind":
        return ""  # nobody reads it back
    return cell


@given(carts, st.data())
def test_no_mangling_of_a_spreadsheet_changes_what_a_cart_says(
    rows: list[tuple[Offer, bool]], rng: st.DataObject
) -> None:
    table = list(csv.reader(io.StringIO(written(rows), newline="")))
    order = rng.draw(st.permutations(range(len(rows))))
    table = [table[0], *(table[place + 1] for place in order)]
    columns = [
        *table[0],
        *rng.draw(st.lists(st.sampled_from(["Remark", "ok?"]), unique=True)),
    ]
    shuffled = rng.draw(st.permutations(columns))
    remade = [[c.upper() if rng.draw(st.booleans()) else c for c in shuffled]]
    for line in table[1:]:
        cells = dict(zip(table[0], line, strict=True))
        remade.append(
            [as_a_spreadsheet_has_it(c, cells[c], rng) if c in cells else "seen" for c in shuffled]
        )
        if rng.draw(st.booleans()):
            remade.append([""] * len(columns))
    text = io.StringIO(newline="")
    ends = rng.draw(st.sampled_from(["\n", "\r\n"]))
    delimiter = rng.draw(st.sampled_from(",;\t"))
    csv.writer(text, delimiter=delimiter, lineterminator=ends, quoting=csv.QUOTE_ALL).writerows(
        remade
    )
    encoding = rng.draw(st.sampled_from(["utf-8", "utf-8-sig", "utf-16"]))
    read, troubles, oddities = entries(text.getvalue().encode(encoding))
    assert not troubles
    assert not oddities
    assert [(told_apart(o), taken) for o, taken in read] == [
        (told_apart(rows[place][0]), rows[place][1]) for place in order
    ]


@pytest.mark.parametrize(
    ("cell", "read"),
    [
        ("", (None, None)),
        ("0", (0, None)),
        ("1234567", (1234567, None)),
        ("1.234.567", (1234567, None)),
        ("1,234", (1234, None)),
        ("1234.00", (1234, None)),
        ("1,5 MB", (1_500_000, None)),
        ("~1200000", (None, 1_200_000)),
        ("~232038 +-103", (None, 232_038, 103)),
        ("1,26E+06", (None, 1_260_000)),
    ],
)
def test_sizes_are_read_as_spreadsheets_show_them(cell: str, read: tuple[int | None, ...]) -> None:
    assert read_bytes(cell) == (*read, None)[:3]


@pytest.mark.parametrize("cell", ["much", "-5", "1,234 MB", "12,34", "1e999", "0x10"])
def test_a_size_that_could_be_two_or_none_is_not_guessed(cell: str) -> None:
    with pytest.raises(BadOption):
        assert read_bytes(cell) == (None, None, None)


@pytest.mark.parametrize(
    ("cell", "day_first"),
    [
        ("2031-05-03T06:15:00+00:00", None),
        ("2031-05-03T08:15:00+02:00", None),
        ("2031/5/3 6:15", None),
        ("03.05.2031 06:15", None),
        ("3/5/2031 6:15 AM", True),
        ("5/3/31 6:15 am", False),
        ("3 May 2031 06:15", None),
        ("May 3, 2031 6:15 AM", None),
        ("47971.2604166667", None),
    ],
)
def test_dates_are_read_as_spreadsheets_show_them(cell: str, day_first: bool | None) -> None:
    assert read_date(cell, day_first=day_first) == datetime(2031, 5, 3, 6, 15, tzinfo=UTC)


def test_whether_days_come_first_is_told_by_the_column_or_by_nobody() -> None:
    assert is_day_first(["", "3/5/2031", "13.1.2031", "31/5/2031"]) is True
    assert is_day_first(["3/5/2031", "5/31/2031"]) is False
    assert is_day_first(["3/5/2031", "31/5/2031", "5/31/2031"]) is None
    for cell in ("3/5/2031", "31/31/2031", "soon", "2031-02-30", "99999999999"):
        with pytest.raises(BadOption):
            read_date(cell, day_first=None)
    raw = b"url,modified\nhttp://h.example/a,3/5/2031\nhttp://h.example/b,31/5/2031\n"
    assert [o.modified.day for o, _ in entries(raw)[0] if o.modified] == [3, 31]
    both, _, (note,) = entries(raw.replace(b"31/5", b"3/6"))
    assert [o.modified for o, _ in both] == [None, None]
    assert note.startswith("cart.csv, rows 2, 3, column modified: '3/5/2031': ambiguous date")


def test_what_is_not_understood_is_told_by_row_and_column_and_a_mark_is_never_guessed() -> None:
    raw = (
        b"take,url,size,checksum,name\n"
        b"perhaps,http://h.example/a,,,\n"
        b",nowhere,,,\n"
        b'yes,http://h.example/b,huge,,"two\nlines"\n'
        b"yes,http://h.example/c,,sha256:12,\n"
        b"yes,http://h.example/d,,,\xe4\n"
        b"yes,http://h.example/e\n"
    )
    read, troubles, oddities = entries(raw)
    assert [each.name for each, _ in read] == ["two\nlines", None]
    assert [str(each).split(": ")[:2] for each in troubles] == [
        ["cart.csv, row 2", "column take, 'perhaps'"],
        ["cart.csv, row 3", "column url, nowhere"],
        ["cart.csv, row 5", "column checksum, 12"],
        ["cart.csv, row 6", "column name"],
    ]
    assert oddities[0].startswith("cart.csv, row 4, column size: 'huge': not a size")


def test_an_address_alone_is_enough_and_an_empty_folder_beside_a_name_is_none() -> None:
    raw = b"url,name,folder\nhttp://h.example/x/a.csv,,\nhttp://h.example/x/b.csv,b.csv,\n"
    assert [each.path for each, _ in entries(raw)[0]] == ["x/a.csv", "b.csv"]
    with pytest.raises(UnreadableSource, match="no column named url"):
        sheet_of(b"name,address\na,http://h.example/a\n")


# Loaded again


def look_again(path: Path, found: list[Offer], look: Discovery | None = None) -> object:
    look = look or Discovery(sources=["s"])
    loading = load(
        Find((each, True) for each in found), path, look.sources, look.covers, today=TODAY
    )
    return loading.new, loading.renewed, loading.gone, loading.back


def test_loading_again_renews_what_is_known_and_touches_nothing_of_the_person_s(
    tmp_path: Path,
) -> None:
    path = cart_file(tmp_path, [offer("a.csv", 1), offer("x/b.csv"), offer("c.csv", 3)])
    lines = path.read_text().splitlines()
    head, *rows = ("seen;" + line.replace(",", ";") for line in lines)
    # Re-ordered, with a column more, in the fashion of another country.
    remade = [head.replace("seen", "Remark"), rows[2], rows[0].replace("yes", "No"), rows[1]]
    path.write_text("\ufeff" + "\n".join(remade) + "\n", encoding="utf-8")
    moment = datetime(2031, 5, 3, tzinfo=UTC)
    b = offer("x/b.csv", 20, modified=moment)
    assert look_again(path, [offer("d.csv", 4), offer("a.csv", 1), b]) == (1, 1, 1, 0)
    text = path.read_text(encoding="utf-8-sig")
    table = list(csv.DictReader(io.StringIO(text, newline=""), delimiter=";"))
    assert [row["name"] for row in table] == ["c.csv", "a.csv", "b.csv", "d.csv"]
    assert [row["take"] for row in table] == ["yes", "No", "yes", "yes"]
    assert [row["Remark"] for row in table] == ["seen", "seen", "seen", ""]
    assert [row["number"] for row in table] == ["3", "1", "2", "4"]
    assert [row["gone"] for row in table] == ["2031-06-01", "", "", ""]
    assert (table[2]["size"], table[2]["modified"]) == ("20", "2031-05-03T00:00:00+00:00")
    # It comes back; what a listing does not say any more is kept.
    assert look_again(path, [offer(n) for n in ("a.csv", "x/b.csv", "c.csv", "d.csv")]) == (
        0, 0, 0, 1,
    )  # fmt: skip


def test_cells_beyond_the_last_column_are_not_lost(tmp_path: Path) -> None:
    path = tmp_path / "mine.csv"
    path.write_text("url,size\nhttp://h.example/a.csv,5,seen by Ida\n")
    look_again(path, [Offer("http://h.example/a.csv", "s", size=6)])
    (row,) = rows_of(path)
    assert (row["size"], row["take"]) == ("6", "yes")
    assert "seen by Ida" in path.read_text()


def test_a_row_is_marked_gone_only_if_it_would_have_been_found(tmp_path: Path) -> None:
    path = cart_file(tmp_path, [offer("a.csv"), offer("deep/b.csv"), offer("c.csv")])
    deep = NotEntered("http://h.example/deep/", "deep/", Why.DEPTH, "s")
    unsure = [
        (Discovery(sources=["s"], not_entered=[deep]), 1),
        (Discovery(sources=["s"], troubles=[Issue("s", "broke")]), 0),
        (Discovery(sources=["s"], not_entered=[NotEntered("p2", "p2", Why.PAGES, "s")]), 0),
    ]
    for look, gone in unsure:
        copy = tmp_path / "copy.csv"
        copy.write_bytes(path.read_bytes())
        assert look_again(copy, [offer("c.csv")], look) == (0, 0, gone, 0)


def test_sources_are_mixed_only_if_that_is_said(tmp_path: Path) -> None:
    path = cart_file(tmp_path, [offer("a.csv")])
    before = path.read_bytes()
    other = Offer("http://h.example/b.csv", "other")
    find = Find([(other, True), (offer("a.csv"), True), (offer("z.csv"), False), (other, True)])
    with pytest.raises(BadOption, match="of another source, s; use --add"):
        load(Find([(other, True)]), path, ["other"], today=TODAY)
    assert path.read_bytes() == before
    loaded = load(find, path, ["other"], add=True, today=TODAY)
    assert (loaded.rows, loaded.new, loaded.taken.files) == (2, 1, 2)
    assert [row["url"][-5:] for row in rows_of(path)] == ["a.csv", "b.csv"]


def test_a_cart_that_would_lose_something_is_left_alone(tmp_path: Path) -> None:
    path = cart_file(tmp_path, [offer("a.csv")])
    path.write_text(path.read_text() + '"' + "x" * 200_000 + '",\n')
    before = path.read_bytes()
    limit = csv.field_size_limit(131_072)  # other modules raise it for tables
    with pytest.raises(UnreadableSource, match="row 3: not a table row"):
        look_again(path, [offer("a.csv", 7)])
    csv.field_size_limit(limit)
    assert path.read_bytes() == before
    assert [each.name for each in tmp_path.iterdir()] == ["cart.csv"], "nothing lies about"


def test_secrets_stay_out_of_a_cart_and_are_counted(tmp_path: Path) -> None:
    signed = Offer("http://h.example/a.csv?token=sedge", "s", mirrors=("http://m.example/?sig=x9",))
    path = tmp_path / "cart.csv"
    assert load(Find([(signed, True)]), path, today=TODAY).secrets == 1
    assert "sedge" not in path.read_text()
    assert "x9" not in path.read_text()


# Picked


LEVELS = [offer(f"levels/level_{day:02d}.csv", 10 * day, number=day) for day in range(1, 11)]
CART = Cart((each, each.number != 10) for each in LEVELS)


def taken(cart: Cart) -> list[int]:
    return [each.number for each in cart]


def test_rows_are_taken_out_kept_alone_and_put_back() -> None:
    out = CART.pick(Way.OUT, Choosing(numbers="1,3-5,10"))
    assert taken(out) == [2, 6, 7, 8, 9]
    assert taken(out.pick(Way.ONLY, Choosing(at_most=70))) == [2, 6, 7]
    assert taken(out.pick(Way.BACK, Choosing(keep=("*_0[1-4].csv",)))) == [1, 2, 3, 4, 6, 7, 8, 9]
    assert taken(out.pick(Way.BACK, Choosing(first=1))) == [1, 2, 6, 7, 8, 9], "of what is out"
    with pytest.raises(NothingChosen, match="--ext wav excluded all 9 offers"):
        CART.pick(Way.OUT, Choosing(ext=("wav",)))
    for numbers in ("3-1", "x", "", "1,,2", "1-2-3"):
        if numbers:
            with pytest.raises(BadOption, match="contains no numbers"):
                Choosing(numbers=numbers)


@given(carts, st.sampled_from(Way), st.sets(st.integers(1, 6)))
def test_picking_changes_what_it_says_and_no_other_row(
    rows: list[tuple[Offer, bool]], way: Way, chosen: set[int]
) -> None:
    numbered = Cart(
        (Offer(o.address, number=n, name=o.name), taken) for n, (o, taken) in enumerate(rows, 1)
    )
    meant = {
        o.number for o, is_in in numbered.rows if way is Way.SWAP or is_in is (way is not Way.BACK)
    }
    rule = Choosing(numbers=",".join(map(str, chosen)) or None)
    if not chosen or not meant & chosen:
        return
    picked = numbered.pick(way, rule)
    now, before = set(taken(picked)), set(taken(numbered))
    assert [o for o, _ in picked.rows] == [o for o, _ in numbered.rows]
    wanted = {
        Way.OUT: before - chosen, Way.ONLY: before & chosen, Way.BACK: before | chosen,
        Way.SWAP: before ^ chosen,
    }[way]  # fmt: skip
    assert now == wanted & ({o.number for o, _ in numbered.rows})


@pytest.mark.parametrize(
    ("prefer", "kept"),
    [
        ("wav,mp3", ["d/dawn.wav", "d/dusk.mp3", "d/dawn.txt", "e/dawn.mp3"]),
        ("mp3,wav", ["d/dawn.mp3", "d/dusk.mp3", "d/dawn.txt", "e/dawn.mp3"]),
        ("e,d,mp3", ["d/dawn.wav", "d/dawn.txt", "d/dusk.mp3", "e/dawn.mp3"]),
    ],
)
def test_of_twins_the_preferred_one_is_kept(prefer: str, kept: list[str]) -> None:
    paths = ["d/dawn.mp3", "d/dawn.wav", "d/dusk.mp3", "d/dawn.txt", "e/dawn.mp3"]
    choice = Choosing(prefer=tuple(prefer.split(","))).choose(map(offer, paths))
    assert sorted(each.path for each in choice.chosen) == sorted(kept)


def test_twins_are_known_by_folders_and_last_words_too_and_judged_after_the_other_rules() -> None:
    films = [
        "1080p/otter.mp4",
        "720p/otter.mp4",
        "reed_720p.mp4",
        "reed_1080p.mp4",
        "mere_720p.mp4",
    ]
    rule = Choosing(prefer=("1080p", "720p"))
    assert [o.path for o in rule.choose(map(offer, films)).chosen] == [
        "1080p/otter.mp4", "reed_1080p.mp4", "mere_720p.mp4",
    ]  # fmt: skip
    elsewhere = [
        offer("d/a.wav"),
        Offer("http://b.example/d/a.mp3", "s"),
        Offer("http://h.example/d/a.mp3", "t"),
    ]
    assert len(Choosing(prefer=("wav", "mp3")).choose(elsewhere).chosen) == 3, "no twins"
    small = Choosing(prefer=("1080p", "720p"), drop=("reed_1080p*",), first=2)
    assert [o.path for o in small.choose(map(offer, films)).chosen] == [
        "1080p/otter.mp4", "reed_720p.mp4",
    ]  # fmt: skip


# Weighed


@given(carts)
def test_every_grouping_adds_up_to_the_whole(rows: list[tuple[Offer, bool]]) -> None:
    weight = Cart(rows).weigh()
    assert weight.all.files + weight.left_out == len(rows)
    for groups in (weight.kinds, weight.folders, weight.sources, weight.months):
        assert sum_of(groups.values()) == weight.all
    known = sorted((o.size for o, is_in in rows if is_in and o.size is not None), reverse=True)
    assert [each.size for each in weight.largest] == known[:10]
    assert weight.all.exact == sum(known)
    assert weight.all.unknown == weight.all.files - len(known), "and never as zero"


# Split


@in_files
@given(
    sizes=st.lists(st.one_of(st.none(), st.integers(0, 60_000)), min_size=1, max_size=14),
    deep=st.integers(1, 3),
    drives=st.lists(st.integers(1, 30).map(lambda blocks: blocks * 8192), min_size=1, max_size=4),
    shares=st.integers(1, 4),
)
def test_every_taken_row_is_in_exactly_one_part(
    tmp_path: Path, sizes: list[int | None], deep: int, drives: list[int], shares: int
) -> None:
    listed = [
        offer("/".join([*(f"f{n % (level + 2)}" for level in range(deep)), f"{n}.bin"]), size)
        for n, size in enumerate(sizes)
    ]
    path = cart_file(tmp_path, listed)
    path.write_text(path.read_text() + ",77,out.csv,,9,,,,,,,http://h.example/out.csv\n")
    for packing in (
        DrivePacking([CartPart(f"drive-{n}", room) for n, room in enumerate(drives)]),
        SharePacking([CartPart(f"share-{n}", None) for n in range(shares)]),
    ):
        try:
            parts = split(path, packing)
        except CannotStore:
            blocks = sum(-(-(size or 0) // 4096) * 4096 for size in sizes)
            assert blocks > sum(drives) / 2 or max(size or 0 for size in sizes) > max(drives) / 2
            assert not list(tmp_path.glob("cart.drive-*")), "all parts or none"
            continue
        there = [row["url"] for file, _ in parts for row in rows_of(file)]
        assert sorted(there) == sorted(each.address for each in listed)
        for file, part in parts:
            assert [row["url"] for row in rows_of(file)] == [
                row["url"]
                for row in rows_of(path)
                if row["url"] in {r["url"] for r in rows_of(file)}
            ], "in the order of the cart"
            assert part.capacity is None or part.reckoned <= part.capacity
            file.unlink()


def test_folders_stay_together_where_they_fit_and_shares_are_even(tmp_path: Path) -> None:
    listed = [offer(f"{year}/{n}.bin", 40_960) for year in (2028, 2029, 2030) for n in range(10)]
    path = cart_file(tmp_path, listed)
    drives = DrivePacking([CartPart("a", 900_000), CartPart("b", 450_000)])
    homes: dict[str, set[str]] = {}
    for file, part in split(path, drives):
        for row in rows_of(file):
            homes.setdefault(row["folder"], set()).add(part.name)
    assert sorted(map(sorted, homes.values())) == [["a"], ["a"], ["b"]]
    shares = SharePacking([CartPart(f"{n}", None) for n in range(4)])
    reckoned = [part.reckoned for _, part in split(path, shares)]
    assert max(reckoned) - min(reckoned) <= 40_960


# In notebooks


@given(carts)
def test_a_cart_becomes_a_data_frame_and_back(rows: list[tuple[Offer, bool]]) -> None:
    cart = Cart(rows)
    frame = cart.to_frame()
    assert list(frame.columns) == list(COLUMNS)
    assert frame["size"].sum() == sum(o.size or 0 for o, _ in rows)
    again = Cart.from_frame(frame)
    assert [(told_apart(o), t) for o, t in again.rows] == [(told_apart(o), t) for o, t in cart.rows]


def test_a_data_frame_of_one_s_own_makes_a_cart_and_a_bad_one_says_where(tmp_path: Path) -> None:
    frame = pd.DataFrame({"url": ["http://h.example/a", "http://h.example/b"], "size": [1.0, None]})
    cart = Cart.from_frame(frame.assign(take=[True, False]))
    assert repr(cart) == "<Cart: 1 of 2 rows taken, 1 B>"
    shown = re.sub(r"<(t[dh]) [^>]*>", r"<\1>", cart._repr_html_())
    assert "<td>yes</td><td>1</td><td>a</td><td>1</td>" in shown
    assert "<script>" not in Cart([(offer("<script>.js"), True)])._repr_html_()
    with pytest.raises(UnreadableSource, match="data frame, row 3: column url, nowhere"):
        Cart.from_frame(pd.DataFrame({"url": ["http://h.example/a", "nowhere"]}))
    for name in ("cart.csv", "cart.jsonl", "cart.meta4"):
        cart.save(tmp_path / name)
        assert [each.address for each in Cart.load(tmp_path / name)] == ["http://h.example/a"]
    with pytest.raises(WillowCartError, match="name a cart"):
        Cart.load(tmp_path / "nothing.csv")
    assert len(Cart.of([offer("a"), offer("a"), offer("b")])) == 2


def test_sizes_add_up_one_by_one_and_together() -> None:
    one, all_of_them = Sizes(), Sizes()
    for each in (offer("a", 1), offer("b"), offer("c", about=5), offer("d", 2)):
        one.add(each)
        single = Sizes()
        single.add(each)
        all_of_them.add_all(single)
    assert one == all_of_them == Sizes(4, 3, 5, 1, 1)
    assert timedelta(seconds=one.bytes) == timedelta(seconds=8)
