"""A file is gone only if its server states it; a listing that was cut off says nothing."""

from __future__ import annotations

import csv
import re
import time
from collections.abc import Callable
from email.utils import formatdate
from pathlib import Path

import pytest

from tests.support.program import files_in, run
from tests.support.raw_server import Answer, RawServer, Request, answer
from willow_cart.demo.places import Outbox

NAMES = [f"level_{number}.csv" for number in range(10)]
JOB = 'into = "d"\ngone = "aside"\n[[source]]\nfrom = "{at}"\n'


def index(names: list[str], whole: bool = True) -> bytes:
    links = "".join(f'<a href="{name}">{name}</a>\n' for name in names)
    end = "</pre></body></html>" if whole else ""
    return f"<html><title>Index of /x/</title><body><pre>{links}{end}".encode()


def maintenance(_: Request) -> Answer:
    return answer(b"<html><title>Index of /x/</title>Back soon</html>", content_type="text/html")


SHORT: dict[str, Callable[[Request], Answer]] = {
    "cut without a length": lambda _: answer(
        index(NAMES), cut=300, content_length=None, content_type="text/html"
    ),
    "whole without a length": lambda _: answer(
        index(NAMES[:3]), closes=True, content_length=None, content_type="text/html"
    ),
    "no closing tag": lambda _: answer(index(NAMES[:3], whole=False), content_type="text/html"),
    "another page": maintenance,
    "whole, and lagging": lambda _: answer(index(NAMES[:3]), content_type="text/html"),
    "a short JSON listing": lambda _: answer(
        b'[{"name": "level_0.csv", "type": "file"}]', content_type="application/json"
    ),
    "a sign of a broken program": lambda _: answer(status="500 Broken"),
}


@pytest.mark.parametrize("how", SHORT)
def test_what_a_short_listing_leaves_out_is_not_gone(tmp_path: Path, how: str) -> None:
    gone: set[str] = set()
    is_short = False

    def respond(request: Request) -> Answer:
        name = request.target.rpartition("/")[2]
        if name:
            return answer(status="404 Not Found") if name in gone else answer(name.encode())
        if is_short:
            return SHORT[how](request)
        names = [each for each in NAMES if each not in gone]
        return answer(index(names), content_type="text/html")

    with RawServer(respond) as server:
        (tmp_path / "job.toml").write_text(JOB.format(at=f"{server.base}/x/"))
        assert run("errand", "job.toml", cwd=tmp_path).code == 0
        run("load", f"{server.base}/x/", "--cart", "c.csv", cwd=tmp_path)
        is_short = True
        run("errand", "job.toml", cwd=tmp_path)
        assert sorted(files_in(tmp_path / "d")) == NAMES
        before = (tmp_path / "c.csv").read_text()
        loaded = run("load", f"{server.base}/x/", "--cart", "c.csv", cwd=tmp_path)
        if how not in ("whole, and lagging", "a short JSON listing", "another page"):
            # A cart marks nothing by a listing that may have been cut off.
            assert "gone" not in before + (tmp_path / "c.csv").read_text(), loaded.err
        # A file that is gone, listed wholly, is moved aside, also after the short listing.
        is_short, gone = False, {NAMES[4]}
        done = run("errand", "job.toml", cwd=tmp_path)
        assert "1 file no longer offered, such as level_4.csv; 1 moved" in done.err
        assert len(files_in(tmp_path / "d")) == 9


def test_a_file_that_ftp_does_not_list_is_asked_for(tmp_path: Path) -> None:
    root = tmp_path / "root"
    root.mkdir()
    for name in NAMES[:4]:
        (root / name).write_text(name)
    with Outbox(root) as outbox:
        job = JOB.format(at=f"{outbox.base}/") + 'keep = ["*.csv"]\n'
        (tmp_path / "job.toml").write_text(job)
        assert run("errand", "job.toml", cwd=tmp_path).code == 0
        (root / NAMES[0]).unlink()
        done = run("errand", "job.toml", cwd=tmp_path)
    assert "1 moved" in done.err
    assert sorted(files_in(tmp_path / "d")) == NAMES[1:4]


@pytest.mark.parametrize("ahead", [-1200, 0, 1200])
def test_since_the_last_run_is_by_the_server_and_by_what_was_offered(
    tmp_path: Path, ahead: int
) -> None:
    """Its clock is 20 minutes ahead, right, or slow; some files come late with earlier dates."""
    dates: dict[str, float] = {}

    def respond(request: Request) -> Answer:
        now = formatdate(time.time() + ahead, usegmt=True)
        name = request.target.rpartition("/")[2]
        if not name:
            rows = "".join(
                f'<a href="{each}">{each}</a>'
                f" {time.strftime('%Y-%m-%d %H:%M', time.gmtime(date))} -\n"
                for each, date in dates.items()
            )
            page = f"<html><title>Index of /x/</title><pre>{rows}</pre></html>".encode()
            return answer(page, content_type="text/html", date=now)
        date = formatdate(dates[name], usegmt=True)
        if request.fields.get("if-modified-since") == date:
            return answer(status="304 Not Modified", date=now, content_length=None)
        return answer(f"{name}{dates[name]}".encode(), date=now, last_modified=date)

    with RawServer(respond) as server:
        text = f'into = "d"\n[[source]]\nfrom = "{server.base}/x/"\nsince = "last run"\n'
        (tmp_path / "job.toml").write_text(text)
        dates |= {"a.csv": time.time() - 9e5, "b.csv": time.time() - 8e5}
        assert run("errand", "job.toml", cwd=tmp_path).code == 0
        # By the server's clock: one put up with an old date, one changed just now.
        dates |= {"late.csv": time.time() - 7e5, "b.csv": time.time() + ahead + 60}
        done = run("errand", "job.toml", cwd=tmp_path)
        assert "2 chosen: all arrived" in done.out, done.out + done.err
        found = files_in(tmp_path / "d")
        assert found == {name: f"{name}{date}".encode() for name, date in dates.items()}
        server.requests.clear()
        run("errand", "job.toml", cwd=tmp_path)
        assert not [each for each in server.targets() if re.search("a.csv|late.csv", each)]


def test_a_cart_of_a_whole_listing_still_marks_what_is_gone(tmp_path: Path) -> None:
    names = [*NAMES]
    with RawServer(lambda _: answer(index(names), content_type="text/html")) as server:
        words = ["load", f"{server.base}/x/", "--cart", "c.csv"]
        run(*words, cwd=tmp_path)
        names.remove(NAMES[2])
        run(*words, cwd=tmp_path)
    rows = csv.DictReader((tmp_path / "c.csv").read_text().splitlines())
    assert [row["name"] for row in rows if row["gone"]] == [NAMES[2]]
