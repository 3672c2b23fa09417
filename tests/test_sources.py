"""Sources: lists and tables as people keep them."""

from __future__ import annotations

import csv
import io
from datetime import UTC, datetime
from pathlib import Path

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.offers import names as odd_names
from tests.support.program import run
from willow_cart.cart.rows import read_sheet, write_table
from willow_cart.cart.sheet import Sheet
from willow_cart.errors import UnreadableSource, WillowCartError
from willow_cart.model import Checksum, Issue, Offer
from willow_cart.sources.discover import discover, read_list

A, B = "http://h.example/a.csv", "http://h.example/b.csv"


def read(raw: bytes) -> tuple[list[str], list[str]]:
    """The addresses in a list, and its troubles, as standard input would give them."""
    found = discover(["-"], standard_input=io.BytesIO(raw))
    return [offer.address for offer in found.offers], [str(each) for each in found.troubles]


def read_table(text: str, place: str) -> list[Offer | Issue]:
    return list(read_sheet(Sheet(lambda: io.BytesIO(text.encode()), place), []))


@pytest.mark.parametrize(
    "raw",
    [
        f"{A}\n{B}\n",
        f"{A}\r\n{B}",
        f"{A}\r{B}\r",
        f"\n\n  {A}\t \n\n#note\n\t{B} # later\n   # end",
        f"\ufeff{A}\n{B}",
        "http://h.example/{a,b}.csv",
    ],
)
@pytest.mark.parametrize("encoding", ["utf-8", "utf-16"])
def test_a_list_is_read_however_it_was_kept(raw: str, encoding: str) -> None:
    assert read(raw.removeprefix("\ufeff" if encoding == "utf-16" else "").encode(encoding)) == (
        [A, B],
        [],
    )


def test_a_fragment_is_no_comment_and_a_comment_no_fragment() -> None:
    assert read(b"http://h.example/a.csv#part\nhttp://h.example/b.csv #part")[0] == [A, B]


def test_a_bad_line_is_told_by_its_number_and_the_rest_goes_on() -> None:
    addresses, troubles = read(f"# mine\n{A}\nhtp:/x\n\xff\n{B}\n".encode("latin-1"))
    assert addresses == [A, B]
    assert [trouble.partition(": ")[0] for trouble in troubles] == [
        "standard input, line 3",
        "standard input, line 4",
    ]


@given(st.lists(st.one_of(st.just(A), st.text(), st.just("# note"), st.just("{1..3}"))))
def test_any_list_is_read_line_by_line(lines: list[str]) -> None:
    """No line can spoil another: what is good among anything is found, and numbered in order."""
    clean = [line.replace("\n", " ").replace("\r", " ") for line in lines]
    items = list(read_list(clean, "list"))
    offers = [item for item in items if isinstance(item, Offer)]
    assert sum(offer.address == A for offer in offers) >= clean.count(A)
    assert [offer.number for offer in offers] == list(range(1, len(offers) + 1))
    for trouble in (item for item in items if isinstance(item, Issue)):
        assert trouble.place.startswith("list, line ")


@pytest.mark.parametrize("delimiter", [",", ";", "\t"])
@pytest.mark.parametrize("end", ["\n", "\r\n"])
def test_a_table_is_read_by_its_column_names(delimiter: str, end: str) -> None:
    rows = [
        ["Remark", "URL", "Name", "checksum", "Size", "folder"],
        ["first", A, "alder.csv", f"sha256:{'ab' * 32}", "1.5 kB", "hides"],
        ["", "", "", "", "", ""],
        ["bad", "nowhere", "", "", "", ""],
        ["worse", B, "", "sha256:12", "", ""],
        ["short", B],
    ]
    raw = end.join(delimiter.join(row) for row in rows)
    found = discover(["-"], standard_input=io.BytesIO(b"\xef\xbb\xbf" + raw.encode()))
    first, last = found.offers
    assert (first.address, first.path, first.size) == (A, "hides/alder.csv", 1500)
    assert first.checksums == (Checksum("sha256", "ab" * 32),)
    assert (last.address, last.path) == (B, "b.csv")
    assert [trouble.place for trouble in found.troubles] == [
        "standard input, row 4",
        "standard input, row 5",
    ]


def test_rows_that_are_not_taken_are_left_out_and_odd_marks_are_told() -> None:
    marks = ["yes", "", "No", "X", "TRUE", "0", "perhaps"]
    raw = "take;url\n" + "".join(f"{mark};http://h.example/{n}\n" for n, mark in enumerate(marks))
    items = list(read_table(raw, "cart.csv"))
    taken = [item.address[-1] for item in items if isinstance(item, Offer)]
    assert taken == ["0", "3", "4"]
    (trouble,) = (item for item in items if isinstance(item, Issue))
    assert str(trouble).startswith("cart.csv, row 8: column take, 'perhaps': not yes or no")


def test_a_quoted_cell_may_hold_anything() -> None:
    raw = f'url,name\n{A},"two\nlines, and ""more"""\n{B},b\n'
    names = [item.name for item in read_table(raw, "t") if isinstance(item, Offer)]
    assert names == ['two\nlines, and "more"', "b"]


@given(
    st.lists(
        st.builds(
            Offer,
            st.just(A),
            name=odd_names.map(str.strip),
            size=st.one_of(st.none(), st.integers(0, 10**15)),
        ),
        max_size=5,
    )
)
def test_a_cart_is_read_back_as_it_was_written_and_runs_nowhere(offers: list[Offer]) -> None:
    written = io.StringIO(newline="")
    write_table([(offer, True) for offer in offers], written)
    for row in csv.reader(io.StringIO(written.getvalue(), newline="")):
        assert not any(cell.startswith(("=", "+", "-", "@", "\t", "\r")) for cell in row)
    again = [item for item in read_table(written.getvalue(), "cart") if isinstance(item, Offer)]
    assert [(o.address, o.file_name, o.size) for o in again] == [
        (o.address, o.file_name, o.size) for o in offers
    ]


def test_sources_that_cannot_be_read_do_not_spoil_the_others(tmp_path: object) -> None:
    found = discover([A, "no-such-list.txt", "ftp://h.example/x"])
    assert [offer.address for offer in found.offers] == [A]
    assert len(found.troubles) == 2
    with pytest.raises(UnreadableSource, match="no such file"):
        discover(["no-such-list.txt"])


def test_what_is_no_text_is_told() -> None:
    with pytest.raises(UnreadableSource, match="not text"):
        discover(["-"], standard_input=io.BytesIO(b"PK\x03\x04\0\0"))
    with pytest.raises(UnreadableSource, match="no standard input"):
        discover(["-"])


def test_a_workbook_with_a_column_of_addresses_is_a_cart(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    assert book.active is not None
    book.active.append(["remarks"])
    sheet = book.create_sheet("files")
    for row in (
        [], ["Take", "URL", "modified", "size", "folder"],
        ["yes", "https://h.example/a.csv", datetime(2031, 5, 1), 1200, "levels"],  # noqa: DTZ001
        ["", "https://h.example/b.csv"], [], ["yes", "nonsense"],
    ):  # fmt: skip
        sheet.append(row)
    book.save(tmp_path / "cart.xlsx")
    found = discover([str(tmp_path / "cart.xlsx")])
    assert found.offers == [
        Offer("https://h.example/a.csv", str(tmp_path / "cart.xlsx"), 1, folder="levels", size=1200,
              modified=datetime(2031, 5, 1, tzinfo=UTC))
    ]  # fmt: skip
    assert [trouble.place for trouble in found.troubles] == [f"{tmp_path}/cart.xlsx, row 6"]
    # One without such a column is an archive of its parts, as before; a text is no workbook.
    book.remove(sheet)
    book.save(tmp_path / "plain.xlsx")
    shown = run("survey", "plain.xlsx", cwd=tmp_path)
    assert "xl/workbook.xml" in shown.out
    (tmp_path / "false.xlsx").write_bytes(b"PK\x03\x04 and nothing more")
    with pytest.raises(WillowCartError):
        discover([str(tmp_path / "false.xlsx")])
