"""What was made to take memory or time is refused in a line, or read in little of both."""

from __future__ import annotations

import gzip
import io
import re
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import parquet

from tests.support.program import COMMAND, PATIENCE, run
from tests.test_architecture import SOURCE
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.offline_copies.page_rewriting import Markup
from willow_cart.outside_values import MAX_DEPTH, require_shallow
from willow_cart.safe_xml import BrokenXml, elements_named, parse_safely
from willow_cart.sources.web_pages.flat_pages import parse_flat

# What a command may hold at most, with the libraries for tables.
MOST_KILOBYTES = 300 << 10


def bounded(*words: str, cwd: Path) -> tuple[int, str]:
    """Run a command that must neither take much memory nor go on for ever."""
    done = subprocess.run(
        [sys.executable, "-c", WATCHED, *COMMAND, *words], cwd=cwd, capture_output=True,
        text=True, check=False, timeout=PATIENCE,
    )  # fmt: skip
    text, _, used = (done.stderr + done.stdout).rpartition("\n")
    assert "internal error" not in text
    assert "Traceback" not in text
    assert int(used) < MOST_KILOBYTES, text
    return done.returncode, text


# A process counts what its parent held when it was started, so it is started by a small one.
WATCHED = """
import os, sys
process = os.posix_spawn(sys.argv[1], sys.argv[1:], os.environ)
_, status, usage = os.wait4(process, 0)
print(f"\\n{usage.ru_maxrss}", end="")
sys.exit(os.waitstatus_to_exitcode(status))
"""

NAMESPACE = 'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"'

TEXTS_TYPE = (
    b'<Override PartName="/xl/sharedStrings.xml" ContentType="application/vnd.openxmlformats-'
    b'officedocument.spreadsheetml.sharedStrings+xml"/>'
)


def workbook(sheet: list[bytes], texts: list[bytes] | None = None) -> bytes:
    """A workbook with a sheet, and perhaps texts, that are written as they are given."""
    import openpyxl

    made = io.BytesIO()
    book = openpyxl.Workbook()
    book.active.append(["url"])
    book.save(made)
    out = io.BytesIO()
    with zipfile.ZipFile(made) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        given = {"xl/worksheets/sheet1.xml": sheet, "xl/sharedStrings.xml": texts}
        for name in {*old.namelist(), *(["xl/sharedStrings.xml"] if texts else [])}:
            pieces = given.get(name) or [old.read(name)]
            if name == "[Content_Types].xml":
                types = TEXTS_TYPE if texts else b""
                pieces = [pieces[0].replace(b"</Types>", types + b"</Types>")]
            with new.open(name, "w", force_zip64=True) as file:
                for piece in pieces:
                    file.write(piece)
    return out.getvalue()


HEAD = f"<worksheet {NAMESPACE}>".encode()
ROWS = b'<sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>url</t></is></c></row>'
BLANKS = [b" " * (1 << 20)] * 120


def packed_line() -> bytes:
    out = io.BytesIO()
    with gzip.open(out, "wb", compresslevel=1) as file:
        file.write(b"a,b\n")
        for blanks in BLANKS:
            file.write(blanks)
    return out.getvalue()


def page_of_parquet() -> bytes:
    out = io.BytesIO()
    table = pa.table({"a": pa.array(["x" * 100_000_000])})
    parquet.write_table(table, out, compression="zstd", use_dictionary=False)
    return out.getvalue()


SWOLLEN: dict[str, tuple[str, Callable[[], bytes], list[str], str]] = {
    "brackets": ("c.json", lambda: b'{"type": "FeatureCollection", "features":' + b" " * (5 << 20)
                 + b"[" * 40_000, ["survey", "{}", "--as", "catalogue"], "nested too deeply"),
    "metalink": ("m.meta4", lambda: b'<!DOCTYPE m [<!ENTITY e "' + b"x" * 1000 + b'">]>'
                 b'<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file>' + b"&e;" * 100_000
                 + b"</file></metalink>", ["survey", "m.meta4"], "DOCTYPE"),
    "texts": ("t.xlsx", lambda: workbook([HEAD, ROWS, b"</sheetData></worksheet>"],
              [f"<sst {NAMESPACE}><si><t>".encode(), *BLANKS, b"</t></si></sst>"]),
              ["survey", "t.xlsx"], "larger than"),
    "blanks": ("b.xlsx", lambda: workbook([HEAD, ROWS, b'<row r="2"><c t="inlineStr"><is><t>',
               *BLANKS, b"</t></is></c></row></sheetData></worksheet>"]),
               ["combine", "b.xlsx", "--to", "out.csv"], "larger than"),
    "cells": ("w.xlsx", lambda: workbook([HEAD, ROWS, b'<row r="2">', *[b"<c/>" * 10_000] * 200,
              b"</row></sheetData></worksheet>"]), ["survey", "w.xlsx"], "elements"),
    "declared": ("d.xlsx", lambda: workbook([b"<!DOCTYPE w [<!ENTITY e 'x'>]>", HEAD, ROWS,
                 b"</sheetData></worksheet>"]), ["combine", "d.xlsx", "--to", "out.csv"],
                 "document type"),
    "line": ("l.csv.gz", packed_line, ["combine", "l.csv.gz", "--to", "out.csv"], "line of more"),
    "columns": ("c.csv", lambda: b",".join(b"c%d" % n for n in range(100_000)) + b"\n"
                + b"," * 99_999 + b"\n", ["combine", "c.csv", "--to", "out.parquet"], "columns"),
    "page": ("p.parquet", page_of_parquet, ["peek", "p.parquet"], "too large"),
    "skipped": ("s.csv", lambda: b"a,b\n1,2\n",
                ["combine", "s.csv", "--to", "out.csv", "--skip-lines", "999999999999"], "empty"),
    "values": ("v.toml", lambda: b'into = "x"\n[values]\na = "0123456789"\n' + b"".join(
        b'%c = "%s"\n' % (at + 98, b"{%c}" % (at + 97) * 10) for at in range(9))
        + b'[[source]]\nfrom = "http://h.example/{j}"\n', ["errand", "v.toml"], "characters"),
    "width": ("x.toml", lambda: b'into = "x"\n[values]\na = "1"\n[[source]]\nfrom = '
              b'"http://h.example/{a:>999999999}"\n', ["errand", "x.toml"], "not a format"),
}  # fmt: skip


@pytest.mark.posix
@pytest.mark.parametrize("kind", SWOLLEN)
def test_what_swells_is_refused_in_little_memory(tmp_path: Path, place: StandIn, kind: str) -> None:
    name, make, words, said = SWOLLEN[kind]
    (tmp_path / name).write_bytes(make())
    place.exhibits[name] = Exhibit((tmp_path / name).read_bytes())
    code, text = bounded(*(word.format(f"{place.base}/{name}") for word in words), cwd=tmp_path)
    assert said in text, text
    assert code in (0, 1, 2, 3)
    assert code or kind == "page"


def test_the_size_that_a_sheet_claims_is_not_made_up(tmp_path: Path) -> None:
    far = b'<c r="XFD1048576" t="inlineStr"><is><t>end</t></is></c>'
    claimed = [HEAD, b'<dimension ref="A1:XFD1048576"/>', ROWS]
    for name, rows in (("claimed", b""), ("far", b'<row r="1048576">' + far + b"</row>")):
        made = workbook([*claimed, rows, b"</sheetData></worksheet>"])
        (tmp_path / f"{name}.xlsx").write_bytes(made)
        assert run("peek", f"{name}.xlsx", cwd=tmp_path).code == 0
        assert run("survey", f"{name}.xlsx", cwd=tmp_path).code == 3


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "iso-8859-1", "shift_jis", "utf-7"])
def test_declarations_in_xml_are_refused_in_every_encoding(encoding: str) -> None:
    head = f'<?xml version="1.0" encoding="{encoding}"?>'
    text = f'{head}<!-- x --><!DOCTYPE a [<!ENTITY e "x">]><a>&e;</a>'
    content = text.encode(encoding)
    with pytest.raises(BrokenXml):
        parse_safely(content)
    with pytest.raises(BrokenXml):
        list(elements_named(io.BytesIO(content), "a"))
    if encoding != "utf-7":
        plain = f'{head}<!DOCTYPE a PUBLIC "x" "http://h.example/a.dtd"><a>b</a>'.encode(encoding)
        if encoding != "shift_jis":
            assert parse_safely(plain).text == "b"
        assert parse_safely(f"{head}<a>b</a>".encode(encoding)).text == "b"


@given(st.integers(0, 2 * MAX_DEPTH), st.sampled_from("[{"), st.text())
def test_the_depth_of_json_is_known_whatever_its_texts_hold(
    depth: int, bracket: str, text: str
) -> None:
    import json

    opening = "[" if bracket == "[" else '{"[\\"{":'
    document = f"[{json.dumps(text)}, " + opening * depth
    if depth + 1 > MAX_DEPTH:
        with pytest.raises(ValueError, match="deeply"):
            require_shallow(document.encode())
    else:
        require_shallow(document.encode())


UNENDING = ("<a ", "<!--", "<?xml ", "<title", "<title>", "<![x", "<![CDATA[", "</a ", "&#",
            "<a x='", '<a x="', "<script>", "<style>", "<!x", "<", "<b><a ", "<a/ ")  # fmt: skip


@pytest.mark.parametrize("unit", UNENDING)
def test_pages_without_ends_are_read_in_one_go(unit: str) -> None:
    """Each of these would take minutes in the square of its length."""
    for end in ("", ">", "-->"):
        page = f"<title>x</title>{unit * (400_000 // len(unit))}{end}"
        markup = Markup(page)
        assert markup.title == "x"
        assert markup.rewritten(lambda _address, _role: None) is not None
        parse_flat(page)


def patterns() -> list[tuple[str, str, re.Pattern[str] | re.Pattern[bytes], set[str]]]:
    """Every pattern of the code with the ways in which it is used."""
    import ast
    import importlib

    used: dict[str, set[str]] = {}
    ways = {"search", "match", "fullmatch", "finditer", "findall", "split", "sub"}
    trees = {path: ast.parse(path.read_text()) for path in sorted(SOURCE.rglob("*.py"))}
    for tree in trees.values():
        for node in ast.walk(tree):
            if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
                used.setdefault(node.value.id, set()).update({node.attr} & ways)
    found = []
    for path in trees:
        parts = path.relative_to(SOURCE).with_suffix("").parts
        if parts[0] in ("demo", "standalone", "__main__", "platform", "cli"):
            continue
        module = importlib.import_module(".".join(("willow_cart", *parts)))
        for name, value in vars(module).items():
            if isinstance(value, re.Pattern) and used.get(name):
                found.append((module.__name__, name, value, used[name]))
    return found


UNITS = (" ", "a", "1", ".", "/", "\\", '"', "'", "<", "=", ",", ";", ":", "?", "@", "-", "a ",
         "a=", "1.", '\\"', " =", "url(", "\\a", "a:/", "#", "(")  # fmt: skip


@pytest.mark.posix
def test_no_pattern_takes_the_square_of_the_time() -> None:
    """Each reads 60 kB at once; the square of that would take minutes, and the cube years."""
    import signal

    def too_long(*_: object) -> None:
        raise TimeoutError

    slow = []
    before = signal.signal(signal.SIGALRM, too_long)
    try:
        for module, name, pattern, ways in patterns():
            for unit in UNITS:
                text = unit * (60_000 // len(unit))
                given: object = text.encode() if isinstance(pattern.pattern, bytes) else text
                for way in ways:
                    arguments = ("" if isinstance(given, str) else b"",) if way == "sub" else ()
                    signal.alarm(20)
                    try:
                        result = getattr(pattern, way)(*arguments, given)
                        if way == "finditer":
                            list(result)
                    except TimeoutError:
                        slow.append((module, name, unit, way))
                    finally:
                        signal.alarm(0)
    finally:
        signal.signal(signal.SIGALRM, before)
    assert slow == []


def test_a_field_without_an_end_hangs_no_haul(tmp_path: Path, place: StandIn) -> None:
    odd = (
        "Basic" + " " * 8000 + "=",
        "Basic " + "a" * 8000 + "@",
        ", " * 4000,
        'Basic a="' + "\\" * 8001,
    )

    def refusing(field: str) -> Exhibit:
        return Exhibit(script=lambda handler: handler.refuse(401, {"WWW-Authenticate": field}))

    place.exhibits |= {f"{number}.csv": refusing(field) for number, field in enumerate(odd)}
    addresses = [f"{place.base}/{number}.csv" for number in range(len(odd))]
    done = run(
        "haul", *addresses, "--into", "x", "--user", "ida", "--password", "env:FEN",
        cwd=tmp_path, env={"FEN": "reedmace"}, timeout=PATIENCE,
    )  # fmt: skip
    assert done.code == 1
    assert done.err.count("401 Unauthorized") == len(odd)
