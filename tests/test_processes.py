"""What a command leaves in process lists, and how it ends and begins in odd surroundings."""

from __future__ import annotations

import os
import signal
import subprocess
from pathlib import Path

import pytest

from tests.support.program import COMMAND, PATIENCE, files_in, run, start
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.events import OpenCluster
from willow_cart.sign_in.oauth import OAuthSignIn
from willow_cart.views.words import lines_of

SECRET = "Zq7Otter93xW"

pytestmark = pytest.mark.posix


def command_lines() -> list[str]:
    """The words of every process, as everybody on the machine can read them."""
    lines = []
    for entry in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            lines.append(entry.read_bytes().replace(b"\0", b" ").decode("utf-8", "replace"))
        except OSError:  # it has ended
            continue
    return lines


@pytest.mark.skipif(not Path("/proc/self/cmdline").exists(), reason="the system has no /proc")
def test_a_haul_in_the_background_shows_no_one_what_was_typed(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["slow.csv"] = Exhibit(b"x" * 500_000, speed=50_000)
    words = ("--header", f"X-Key: {SECRET}", "--note", "übersicht", "--detach")
    done = run("haul", f"{place.base}/slow.csv", "--into", "data", *words, cwd=tmp_path)
    assert done.code == 0, done.err
    assert not any(SECRET in line for line in command_lines())
    (running,) = [each for each in run("runs", "--json", cwd=tmp_path).json() if each["alive"]]
    assert SECRET not in str(running)
    assert run("runs", "--watch", str(running["number"]), cwd=tmp_path).code == 0
    assert files_in(tmp_path / "data") == {"slow.csv": b"x" * 500_000}
    assert any(each.fields.get("x-key") == SECRET for each in place.requests)


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT])
def test_an_end_during_the_first_contact_is_told_in_a_line(
    tmp_path: Path, place: StandIn, number: int
) -> None:
    place.exhibits["index.html"] = Exhibit(b"<a href=x.csv>x</a>" * 50_000, speed=1000)
    process = start("survey", f"{place.base}/index.html", cwd=tmp_path)
    while not place.requests:
        assert process.poll() is None
    process.send_signal(number)
    _, err = process.communicate(timeout=PATIENCE)
    assert process.returncode == 130, err
    assert err.decode().splitlines()[-1:] == ["willow-cart: interrupted; nothing was changed"]


def test_names_beyond_ascii_arrive_in_a_locale_without_them(tmp_path: Path) -> None:
    names = ["größe/übersicht.csv", "水位.csv", "plain.csv"]
    for name in names:
        (tmp_path / "from" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "from" / name).write_bytes(b"a,b\n")
    plain = {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}
    done = subprocess.run(
        [*COMMAND, "haul", "from", "--depth", "all", "--into", "data"],
        cwd=tmp_path, env={**os.environ, **plain}, capture_output=True, check=False,
        timeout=PATIENCE,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert {*files_in(tmp_path / "data")} == {*names}


@pytest.mark.parametrize("code", [SECRET, "invalid_grant", "server_error", "", "x" * 5000])
def test_a_refusal_shows_the_codes_of_the_standard_alone(code: str) -> None:
    refused = OAuthSignIn("https://a.example/token", "desk").refused(
        400, f'{{"error": "{code}"}}'.encode()
    )
    assert SECRET not in str(refused)
    assert "xxx" not in str(refused)
    assert ("another error" in str(refused)) == (code in (SECRET, "x" * 5000))


def test_an_open_line_to_a_scheduler_is_told() -> None:
    (line,) = lines_of(OpenCluster("tcp://10.0.0.7:8786", is_here=False))
    assert "can run programs as you, here and on the workers; tls://" in line


def test_an_errand_whose_path_a_crontab_would_cut_is_refused(tmp_path: Path) -> None:
    for name in ("a\\%b.toml", "a%b.toml"):
        (tmp_path / name).write_text('into = "x"\n[[source]]\nfrom = "http://h.example/x"\n')
        done = run("timetable", name, "--at", "daily 06:30", cwd=tmp_path)
        assert done.code == (2 if "\\" in name else 0), done.err
    assert (
        "has characters that a timetable cannot hold"
        in run("timetable", "a\\%b.toml", "--at", "daily 06:30", cwd=tmp_path).err
    )
