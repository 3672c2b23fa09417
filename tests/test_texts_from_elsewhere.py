"""What a server, a page or a table says stays text: in files that are written and on screens."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import run
from tests.test_screen import on_a_terminal
from tests.test_twins import zipped
from willow_cart.commands.table import COMMANDS
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.errors import BadOption
from willow_cart.toml_file import toml_comment, toml_line
from willow_cart.units import json_text, printable_lines

# Every control character, what turns the direction of a line, and what ends one.
SIGNS = "".join(
    map(
        chr,
        [
            *range(1, 32), *range(0x7F, 0xA0), 0x61C, 0x200E, 0x200F, *range(0x2028, 0x202F),
            *range(0x2066, 0x206A), 0xFEFF,
        ],
    )
)  # fmt: skip
COMMANDS_TO_A_TERMINAL = "\x1b]0;owned\x07\x1b[5;31mred\x9b2J\u202efdp."
HOSTILE = f"x{COMMANDS_TO_A_TERMINAL}{SIGNS}"
IN_TOML = 'a\n[[step]]\nrun = "touch owned"\n#\r[[step]]\x0b\x85[values]\u2028'

anything = st.text(st.characters(exclude_categories=[]))


def raw_signs(text: str) -> list[str]:
    """What a terminal would interpret, beyond the ends of lines and what this program draws."""
    drawn = re.sub(r"\x1b\[(?!5;31m|2J)[?0-9;]*[A-Kmhl]|[\r\n\t]", "", text)
    return [sign for sign in drawn if not sign.isprintable()]


@given(anything, st.lists(anything))
def test_a_line_of_toml_is_one_key_and_a_comment_none(text: str, several: list[str]) -> None:
    written = toml_comment(text)
    assert written.isprintable()
    assert tomllib.loads(written) == {}
    for value in (text, several):
        try:
            line = toml_line("key", value)
        except BadOption:
            assert re.search("[\ud800-\udfff]", "".join(value))
            continue
        assert line.isprintable()
        assert tomllib.loads(f"{line}\n{toml_comment(line)}") == {"key": value}


@given(st.recursive(anything, lambda inner: st.lists(inner) | st.dictionaries(anything, inner)))
def test_json_is_printable_and_says_the_same(value: object) -> None:
    for indent in (None, 2):
        text = json_text(value, indent=indent)
        assert text.replace("\n", "").isprintable()
        assert json.loads(text) == value
        assert printable_lines(text) == text


def answering(place: StandIn, name: str, content: bytes, kind: str = "text/csv") -> None:
    """Serve a file whose header fields and reason are hostile, too."""

    def script(handler: StandInHandler) -> None:
        said = HOSTILE.encode("latin-1", "ignore").translate(None, b"\r\n").decode("latin-1")
        head = (
            f"HTTP/1.1 200 {said}\r\nContent-Length: {len(content)}\r\nContent-Type: {kind}\r\n"
            f'ETag: "{said}"\r\nLast-Modified: {said}\r\nX-Other: {said}\r\n'
            f'Content-Disposition: attachment; filename="{said}.csv"\r\n\r\n'
        )
        handler.wfile.write(head.encode("latin-1"))
        if handler.command != "HEAD":
            handler.wfile.write(content)

    place.exhibits[name] = Exhibit(content, script=script)


@pytest.fixture
def hostile(place: StandIn) -> StandIn:
    """A place where everything that can be named has signs for terminals in its name."""
    words = HOSTILE.replace("<", "")
    names = [f"{HOSTILE}{number}.csv" for number in range(3)]
    links = "".join(
        f'<h2>{words}</h2><p><a href="data/{quote(name)}?{quote(HOSTILE)}=1">{words}</a>'
        for name in names
    )
    folder = f'<a href="{quote(HOSTILE)}/">{words}</a><a href="one.csv">{words}</a>'
    place.exhibits["page.html"] = Exhibit(
        f"<title>{words}</title><table><tr><th>{words}<th>b<tr><td>{words}<td>"
        f"{links}{folder}<a href='gone.csv'>{words}</a><a href='bad.zip'>z</a></table>".encode()
    )
    header = ",".join(f'"{HOSTILE}{number}"' for number in range(3))
    row = ",".join(f'"{HOSTILE}"' for _ in range(3))
    table = f"{header}\n{row}\n".encode()
    for name in names:
        place.exhibits[f"data/{name}"] = Exhibit(table)
    answering(place, "one.csv", table)
    place.exhibits["bad.zip"] = Exhibit(zipped({f"in/{HOSTILE}.csv": table}))

    def refuse(handler: StandInHandler) -> None:
        said = HOSTILE.encode("latin-1", "ignore").translate(None, b"\r\n")
        handler.wfile.write(b"HTTP/1.1 404 " + said + b"\r\nContent-Length: 0\r\n\r\n")

    place.exhibits["gone.csv"] = Exhibit(script=refuse)
    return place


def commands_at(page: str, one: str) -> Iterator[list[str]]:
    """Every command that shows what came from elsewhere, in each form of its output."""
    for form in ("", "--json", "--csv", "--tree", "--folders", "--folders --csv", "--why"):
        yield ["survey", page, "--depth", "1", *form.split()]
    for form in ("", "--json"):
        yield ["peek", one, *form.split()]
    yield ["knock", page]
    yield ["knock", one, "--json"]
    yield ["haul", one, "--into", "detached", "--detach"]
    yield ["runs", "--watch", "1"]
    yield ["load", page, "--cart", "cart.csv", "--to-script", "script.py"]
    yield ["load", page, "--cart", "cart.jsonl"]
    yield ["weigh", "cart.csv"]
    yield ["weigh", "cart.csv", "--json"]
    yield ["pick", "cart.csv", "--only", "--ext", "csv"]
    yield ["haul", page, "--into", "data", "--note", HOSTILE, "--inspect"]
    yield ["haul", page, "--into", "data", "--preview"]
    for form in ("", "--json", "--csv", "--runs", "--runs --json", "--manifest markdown"):
        yield ["receipt", "data", *form.split()]
    for manifest in ("datapackage", "ro-crate", "sha256sums"):
        yield ["receipt", "data", "--manifest", manifest]
    yield ["receipt", "data", "--of", one]
    for form in ("", "--json", "--csv", "--upstream"):
        yield ["audit", "data", *form.split()]
    yield ["unpack", "data"]
    yield ["combine", "data", "--to", "all.csv"]
    yield ["refile", "data", "--layout", "flat"]
    yield ["pack", "data", "--to", "data.zip"]
    yield ["offline", page, "--into", "pages"]
    yield ["errand", "new.toml", "--new", page]
    yield ["errand", "new.toml", "--preview"]
    yield ["timetable", "new.toml", "--at", "daily 06:30"]
    yield ["runs"]
    yield ["runs", "--json"]
    yield ["runs", "--log", "1"]


# Commands that show only what the user or this program wrote.
_OWN_TEXTS = {"settings", "help", "completion", "demo"}


def test_no_command_prints_what_a_terminal_would_interpret(
    tmp_path: Path, hostile: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    page, one = f"{hostile.base}/page.html", f"{hostile.base}/one.csv"
    used = set()
    for words in commands_at(page, one):
        used.add(words[0])
        done = run(*words, cwd=tmp_path)
        assert "internal error" not in done.err, (words, done.err)
        assert done.code in (0, 1, 4), (words, done.err)
        assert not raw_signs(done.out), words
        assert not raw_signs(done.err), words
        assert "\\r\n" not in done.out, words
        if words[0] not in ("pick", "load", "pack", "refile", "timetable"):
            again = [word.replace("data.zip", "data2.zip") for word in words]
            if "--new" in again or "--detach" in again:
                continue
            _, drawn = on_a_terminal(*again, cwd=tmp_path)
            assert not raw_signs(drawn), words
    assert used == {*COMMANDS} - _OWN_TEXTS
    for written in ("cart.csv", "new.toml", "script.py", "all.csv"):
        assert (tmp_path / written).is_file()
    assert not raw_signs((tmp_path / "new.toml").read_text())
    # Marks that only order the letters around them are part of a text.
    assert {*raw_signs((tmp_path / "cart.csv").read_text())} <= {*"\u061c\u200e\u200f\ufeff"}


def test_an_errand_from_a_survey_has_the_tables_of_its_writer(
    tmp_path: Path, place: StandIn
) -> None:
    """No name makes a table or a key: not of a file, a folder, an extension or a further page."""
    name = quote(IN_TOML)
    place.exhibits["page.html"] = Exhibit(
        "".join(
            f'<a href="{each}">x</a>'
            for each in (
                f"{name}1.csv", f"{name}2.csv", f"a.{name}", f"b.{name}", f"c.csv?{name}",
                f"{name}/", "plain.txt",
            )
        ).encode()
    )  # fmt: skip
    page = f"{place.base}/page.html"
    assert run("errand", "e.toml", "--new", page, page, cwd=tmp_path).code == 0
    read = tomllib.loads((tmp_path / "e.toml").read_text())
    assert read == {"into": "data", "source": [{"from": page}, {"from": page}]}
    # What is offered in comments is right as it is, too.
    offered = re.sub(r"(?m)^# (ext|keep) = ", r"\1 = ", (tmp_path / "e.toml").read_text())
    tables = tomllib.loads(re.sub(r"(?m)^(keep = .*\n)(?:# )?keep = .*\n", r"\1", offered))
    assert {*tables} == {"into", "source"}


def test_the_script_prints_what_a_server_says_as_text(tmp_path: Path, hostile: StandIn) -> None:
    gone = f"{hostile.base}/gone.csv"
    assert run("load", gone, "--to-script", "s.py", cwd=tmp_path).code == 0
    done = subprocess.run(
        [sys.executable, "s.py", "--into", "x"], cwd=tmp_path, capture_output=True, check=False,
        timeout=240, text=True,
    )  # fmt: skip
    assert done.returncode == 1
    assert "404" in done.stderr
    assert not raw_signs(done.stderr + done.stdout)
