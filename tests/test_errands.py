"""Errands: whole jobs in a file, with values, run again when things have changed."""

from __future__ import annotations

import calendar
import json
import os
import plistlib
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from datetime import UTC, datetime
from email import message_from_bytes
from email.policy import default as default_policy
from pathlib import Path

import pytest
from lxml import etree

from tests.support.program import Outcome, RunHere, files_in, run, start
from tests.test_unpacking import zipped
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errands import Values, read_document
from willow_cart.errands.job import make_job
from willow_cart.errands.system_tasks import Schedule
from willow_cart.errands.timetable import units
from willow_cart.errors import BadOption

NOW = datetime(2031, 6, 3, 5, 30, tzinfo=UTC)


def values(given: dict[str, object], **environment: str) -> Values:
    return Values(given, now=NOW, environment=environment)


@pytest.mark.parametrize(
    ("text", "filled"),
    [
        ("{today} {yesterday} {now:%H}", "2031-06-03 2031-06-02 05"),
        ("{this_month} {last_month} {last_month:%Y%m}", "2031-06 2031-05 203105"),
        ("{days_ago[5]} {days_ago[3]:%d.%m.} {months_ago[6]}", "2031-05-29 31.05. 2030-12"),
        ("{station}_{month:%b}_{month}", "north_May_2031-05"),
        ("{01..12}.{a,b} {}", "{01..12}.{a,b} {}"),
        ("{env[FEN]} {env[NONE]} {env[NONE]|or x}", None),
        ("{env[FEN]} {env[NONE]|or some where}", "reed some where"),
        ("{mont}", None),
        ("{days_ago}", None),
        ("{days_ago[x]}", None),
        ("{station:%Y}", None),
    ],
)
def test_values_stand_in_texts_by_their_names(text: str, filled: str | None) -> None:
    known = values({"station": "north", "month": "{last_month}"}, FEN="reed")
    if filled is None:
        with pytest.raises(BadOption, match=r"did you mean|not set|has no number|not a format of"):
            known.fill(text, "may.toml, at")
    else:
        assert known.fill(text, "may.toml, at") == filled


def test_lists_make_several_of_one_and_only_where_they_are_named() -> None:
    known = values({"hide": ["alder", "reed"], "year": [2030, 2031], "n": 3})
    variants = list(known.variants(["{hide}.csv", "{n}"]))
    assert [each.fill("{hide}{n}", "x") for each in variants] == ["alder3", "reed3"]
    assert len(list(known.variants(["{hide} {year}"]))) == 4
    with pytest.raises(BadOption, match="is a list"):
        known.fill("{hide}", "into")


def write(folder: Path, text: str) -> Path:
    path = folder / "job.toml"
    path.write_text(text)
    return path


JOB = """
into = "data/{month}"
note = "of {month}"
[values]
month = "{last_month}"
hide = ["alder", "reedbed"]

[[source]]
name = "levels"
from = "%(base)s/levels/{month}/"
keep = ["level_{month:%%Y%%m}??.csv"]
[[source]]
name = "counts"
from = "%(base)s/counts/{month}/{hide}.csv"
[[source]]
name = "old"
from = ["%(base)s/old.zip"]

[haul]
lanes = 2
[filing]
file_as = "{source}/{name}"

[[step]]
unpack = "*.zip"
archives = "remove"
[[step]]
combine = "levels.sqlite"
of = "levels"
[[step]]
run = "%(python)s last.py {month}"
"""


@pytest.fixture
def job(tmp_path: Path, place: StandIn) -> Path:
    place.exhibits |= {
        "levels/2031-05/level_20310501.csv": Exhibit(b"time,reedbed\n2031-05-01,1.5\n"),
        "levels/2031-05/level_20310502.csv": Exhibit(b"time,reedbed\n2031-05-02,1.6\n"),
        "levels/2031-05/remarks.csv": Exhibit(b"none\n"),
        "counts/2031-05/alder.csv": Exhibit(b"day,teal\n1,2\n"),
        "counts/2031-05/reedbed.csv": Exhibit(b"day,teal\n1,3\n"),
        "old.zip": Exhibit(zipped({"counts.csv": b"day,teal\n1,4\n"})),
    }
    (tmp_path / "bad").write_text("none")
    (tmp_path / "last.py").write_text(
        "import sys\nprint(sys.argv[1])\nsys.exit(sys.argv[1] in open('bad').read())\n"
    )
    return write(tmp_path, JOB % {"base": place.base, "python": f"'{sys.executable}'"})


def errand(job: Path, *more: str, cwd: Path | None = None) -> Outcome:
    return run("errand", job, "--set", "month=2031-05", *more, cwd=cwd or job.parent)


def rows(job: Path) -> int:
    with sqlite3.connect(job.parent / "levels.sqlite") as base:
        count: int = base.execute("SELECT count(*) FROM levels").fetchone()[0]
    return count


LIES = {"levels/level_20310501.csv", "levels/level_20310502.csv", "counts/alder.csv",
        "counts/reedbed.csv", "old/old/counts.csv"}  # fmt: skip


def test_a_job_is_run_and_again_only_what_is_new_comes(job: Path, place: StandIn) -> None:
    shown = errand(job, "--preview")
    assert (shown.code, place.requests != []) == (0, True)
    assert "month   2031-05\nhide    alder, reedbed\n" in shown.out
    assert "then step 2, combine: willow-cart combine data/2031-05 '--keep=level_203105??.csv'" in (
        shown.out
    )
    assert not (job.parent / "data").exists()
    # Started from elsewhere, as a timetable does, and what it makes is next to it all the same.
    elsewhere = job.parent / "elsewhere"
    elsewhere.mkdir()
    first = errand(job, cwd=elsewhere)
    assert first.code == 0, first.err
    assert "5 chosen: all arrived" in first.out
    assert first.out.endswith("2031-05\n")
    assert set(files_in(job.parent / "data/2031-05")) == LIES
    assert (rows(job), list(elsewhere.iterdir())) == (2, [])
    receipt = run("receipt", "data/2031-05", "--run", "1", "--json", cwd=job.parent).json()
    assert receipt["note"] == "of 2031-05"

    place.exhibits["levels/2031-05/level_20310502.csv"] = Exhibit(
        b"time,reedbed\n2031-05-02,1.7\n2031-05-02,1.8\n"
    )
    place.exhibits["levels/2031-05/level_20310503.csv"] = Exhibit(b"time,reedbed\n2031-05-03,2\n")
    del place.exhibits["levels/2031-05/level_20310501.csv"]
    changes = errand(job, "--preview")
    assert (
        "since the last run: 1 new, 1 of another size, 1 no longer offered, such as" in changes.out
    )
    second = errand(job)
    assert second.code == 0, second.err
    assert "5 chosen: 2 arrived, 3 unchanged" in second.out
    assert set(files_in(job.parent / "data/2031-05")) == LIES | {"levels/level_20310503.csv"}
    assert rows(job) == 4


def test_a_step_that_fails_is_repeated_without_fetching(job: Path, place: StandIn) -> None:
    (job.parent / "bad").write_text("2031-05")
    failed = errand(job)
    assert failed.code == 1
    assert "step 3, run: failed with exit code 1; after fixing it, use --from 3" in (failed.err)
    (job.parent / "bad").write_text("")
    place.requests.clear()
    mended = errand(job, "--from", "run")
    assert (mended.code, mended.out) == (0, "2031-05\n")
    assert place.requests == []
    unknown = errand(job, "--from", "pack")
    assert "--from pack: not a step of the errand; there are 1 unpack, 2 combine, 3 run" in (
        unknown.err
    )
    place.exhibits.pop("counts/2031-05/alder.csv")
    short = errand(job)
    assert short.code == 1
    assert (
        "step 1, unpack: not started, because the haul is incomplete; use --from unpack"
        in short.err
    )


def test_what_was_taken_out_of_its_cart_stays_out(job: Path, place: StandIn) -> None:
    job.write_text(f'cart = "{{month}}.csv"\n{job.read_text()}')
    assert errand(job).code == 0
    assert run("pick", "2031-05.csv", "--out", "--keep", "alder.csv", cwd=job.parent).code == 0
    place.requests.clear()
    assert "4 chosen: all unchanged" in errand(job).out
    assert not any("alder" in str(request) for request in place.requests)


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (("lanes = 2", "lnes = 2"), "line 20, lnes: unknown key in [haul]; did you mean lanes?"),
        (("lanes = 2", "lanes = 0"), "line 20, lanes: 0 is not a whole number from 1 up"),
        (
            ("lanes = 2", "even_if_full = 2"),
            "line 20, even_if_full: is yes or no; write true or false",
        ),
        (
            ("archives =", "archive ="),
            "line 26, archive: unknown key in [[step]]; did you mean archives?",
        ),
        (('of = "levels"', 'of = "x"'), "line 29, of: not the name of a source"),
        (('unpack = "*.zip"', "strip_top = true"), "[[step]]: has no action"),
        (("{hide}", "{hid}"), "line 14, from, {hid}: not a value; did you mean {hide}?"),
        (("into =", "intoo ="), "line 2, intoo: unknown key in the errand; did you mean into?"),
        (("[haul]", "[hual]"), "hual: unknown key in the errand; did you mean haul?"),
        (("keep = [", "keep = "), "not valid TOML: "),
        (("{source}/", "{sauce}/"), "{sauce}: not a field"),
    ],
)
def test_slips_are_told_with_their_lines_before_anything_is_asked(
    job: Path, place: StandIn, change: tuple[str, str], told: str
) -> None:
    assert change[0] in job.read_text()
    job.write_text(job.read_text().replace(*change, 1))
    slip = errand(job)
    assert (slip.code, slip.err.count("\n")) == (2, 1), slip.err
    assert told in slip.err
    assert place.requests == []
    assert not (job.parent / "data").exists()


def test_it_runs_in_a_bare_environment_and_never_twice_at_once(job: Path, place: StandIn) -> None:
    place.exhibits["old.zip"].speed = 10
    first = start("errand", job, "--set", "month=2031-05", cwd=job.parent)
    deadline = time.monotonic() + 240
    while not (job.parent / "data").exists():
        assert time.monotonic() < deadline
        time.sleep(0.01)
    second = errand(job)
    assert (second.code, "is already running" in second.err) == (2, True)
    first.send_signal(signal.SIGINT)
    first.communicate(timeout=240)
    assert first.returncode == 130
    place.exhibits["old.zip"].speed = None
    home = job.parent / "home"
    home.mkdir()
    bare = subprocess.run(
        ["env", "-i", f"HOME={home}", "sh", "-c",
         f"'{sys.executable}' -m willow_cart errand '{job}' --set month=2031-05"],
        cwd="/", capture_output=True, text=True, check=False, timeout=240,
    )  # fmt: skip
    assert bare.returncode == 0, bare.stderr
    assert set(files_in(job.parent / "data/2031-05")) == LIES


def test_sign_ins_stand_in_it_without_their_secrets(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["members.csv"] = Exhibit(b"1", members="ida:reedmace")
    job = write(
        tmp_path,
        f'into = "d"\n[sign_in.fen]\nuser = "ida"\npassword_env = "FEN"\n'
        f'[[source]]\nfrom = "{place.base}/members.csv"\nsign_in = "fen"\n',
    )
    assert run("errand", job, cwd=tmp_path, env={"FEN": "reedmace"}).code == 0
    assert files_in(tmp_path / "d") == {"members.csv": b"1"}
    without = run("errand", job, cwd=tmp_path)
    assert (without.code, "FEN" in without.err) == (2, True)


def test_steps_take_over_what_their_source_keeps_unless_they_name_it(tmp_path: Path) -> None:
    job = write(
        tmp_path,
        """into = "d"
        [[source]]
        from = "s3://camera-traps/"
        keep = ["*.zip", "*.csv"]
        drop = "draft*"
        keep_re = "2031/"
        since = 2031-05-01
        [[step]]
        unpack = "north*.zip"
        [[step]]
        combine = "all.csv"
        """,
    )
    made = make_job(read_document(job), values({}))
    assert made.sources[0].request.choosing.since == datetime(2031, 5, 1, tzinfo=UTC)
    unpack, combine = (set(step.words) for step in made.steps)
    assert unpack == {"unpack", "d", "--keep=north*.zip", "--drop=draft*"}
    assert combine > {"--keep=*.zip", "--keep=*.csv", "--drop=draft*"}
    assert "--keep-re=2031/" not in combine


@pytest.mark.parametrize(
    ("text", "cron", "calendar"),
    [
        ("daily 6:30", "30 6 * * *", "*-*-* 06:30:00"),
        ("06:30", "30 6 * * *", "*-*-* 06:30:00"),
        ("Fri 20:30", "30 20 * * 5", "Fri *-*-* 20:30:00"),
        ("fri-mon 00:05", "5 0 * * 0,1,5,6", "Sun,Mon,Fri,Sat *-*-* 00:05:00"),
        ("Monday,thu 23:59", "59 23 * * 1,4", "Mon,Thu *-*-* 23:59:00"),
        ("1 06:00", "0 6 1 * *", "*-*-01 06:00:00"),
        *((wrong, "", "") for wrong in ("", "Fri", "24:00", "Fry 6:00", "31 6:00", "a b 6:00")),
    ],
)
def test_times_are_read_as_people_write_them(text: str, cron: str, calendar: str) -> None:
    if not cron:
        with pytest.raises(BadOption):
            Schedule.parse(text)
        return
    when = Schedule.parse(text)
    assert (when.cron, when.calendar) == (cron, calendar)


def test_a_crontab_s_line_is_run_as_cron_runs_it(tmp_path: Path, place: StandIn) -> None:
    folder = tmp_path / "100 % done; really $HOME"
    folder.mkdir()
    place.exhibits["a.csv"] = Exhibit(b"1")
    job = write(
        folder,
        f'into = "d"\non_failure = "{sys.executable} tell.py"\n'
        f'[[source]]\nfrom = "{place.base}/a.csv"\n',
    )
    (folder / "tell.py").write_text(
        "import os\nopen('told', 'w').write(os.environ['WILLOW_SUMMARY'])\n"
    )
    shown = run("timetable", job, "--at", "Fri 20:30", cwd=tmp_path)
    line = shown.out.splitlines()[1]
    fields, command = line.split(" ", 5)[:5], line.split(" ", 5)[5]
    assert fields == ["30", "20", "*", "*", "5"]
    # crontab(5): what is after a bare percent sign would be standard input.
    assert "%" not in command.replace("\\%", "")
    home = tmp_path / "home"
    home.mkdir()
    bare = ["env", "-i", f"HOME={home}", "sh", "-c", command.replace("\\%", "%")]
    assert subprocess.run(bare, cwd=home, check=False, timeout=240).returncode == 0
    assert files_in(folder / "d") == {"a.csv": b"1"}
    assert "arrived" in (folder / "job.log").read_text()
    told = (folder / "job.last.txt").read_text()
    assert (
        "job.toml: everything is done: 1 offered, 1 chosen, 1 arrived, 0 failed (exit code 0)"
        in told
    )
    assert not (folder / "told").exists()
    place.exhibits.clear()
    assert subprocess.run(bare, cwd=home, check=False, timeout=240).returncode == 1
    assert "something did not arrive" in (folder / "told").read_text()
    verify = shutil.which("systemd-analyze")
    for name, text in units(Schedule.parse("1 06:00"), ["/bin/true", "100 % $x"], "a b",
                            folder / "log").items():  # fmt: skip
        (tmp_path / name.replace(" ", "-")).write_text(text)
    if verify:
        event = Schedule.parse("fri-mon 00:05").calendar
        subprocess.run([verify, "calendar", event], check=True, capture_output=True)
        made = [*map(str, tmp_path.glob("errand-*.*"))]
        checked = subprocess.run([verify, "--user", "verify", *made], check=False,
                                 capture_output=True, text=True)  # fmt: skip
        assert not [line for line in checked.stderr.splitlines() if "errand-" in line]


TASKS = "{http://schemas.microsoft.com/windows/2004/02/mit/task}"


@pytest.mark.posix
@pytest.mark.parametrize(
    ("at", "trigger", "moments"),
    [
        ("daily 06:05", {"ScheduleByDay": ["DaysInterval"]}, {"Hour": 6, "Minute": 5}),
        (
            "Mon,Thu 20:30",
            {"ScheduleByWeek": ["WeeksInterval", "DaysOfWeek", "Monday", "Thursday"]},
            [{"Hour": 20, "Minute": 30, "Weekday": 1}, {"Hour": 20, "Minute": 30, "Weekday": 4}],
        ),
        (
            "1 06:00",
            {"ScheduleByMonth": ["DaysOfMonth", "Day", "Months", *calendar.month_name[1:]]},
            {"Hour": 6, "Minute": 0, "Day": 1},
        ),
    ],
)
def test_schedules_for_windows_and_macos(
    tmp_path: Path, at: str, trigger: dict[str, list[str]], moments: object
) -> None:
    folder = tmp_path / 'a & "b" ü'
    folder.mkdir()
    job = folder / "job.toml"
    job.write_text('into = "d"\n[[source]]\nfrom = "http://127.0.0.1:9/a.csv"\n')
    files = ["--windows-task", "job.xml", "--launchd-agent", "job.plist"]
    done = run("timetable", job, "--at", at, *files, cwd=tmp_path)
    assert done.code == 0, done.err
    task = etree.parse(str(tmp_path / "job.xml"))
    schema = etree.XMLSchema(etree.parse(str(Path(__file__).parent / "support" / "task.xsd")))
    schema.assertValid(task)
    ((name, parts),) = trigger.items()
    (found,) = task.iter(f"{TASKS}{name}")
    assert [each.tag.removeprefix(TASKS) for each in found.iterdescendants()] == parts
    command, arguments = (task.findtext(f".//{TASKS}{each}") for each in ("Command", "Arguments"))
    assert command
    assert Path(command).exists()
    assert arguments is not None
    assert f'"{str(job).replace(chr(34), chr(92) + chr(34))}"' in arguments
    agent = plistlib.loads((tmp_path / "job.plist").read_bytes())
    assert agent["StartCalendarInterval"] == moments
    assert agent["ProgramArguments"][0] == command
    assert str(job) in agent["ProgramArguments"]
    assert run("timetable", job, "--at", at, *files, cwd=tmp_path).code == 0, "its own are replaced"
    for name in ("job.xml", "job.plist"):
        (tmp_path / name).write_text("mine")
        refused = run("timetable", job, "--at", at, *files, cwd=tmp_path)
        assert (refused.code, (tmp_path / name).read_text()) == (2, "mine")
        (tmp_path / name).unlink()


def test_a_timetable_is_put_into_the_crontab_once(tmp_path: Path, place: StandIn) -> None:
    job = write(tmp_path, f'into = "{{env[FEN_DIR]}}"\n[[source]]\nfrom = "{place.base}/a.csv"\n')
    tab = tmp_path / "tab"
    tab.write_text("5 4 * * * mine\n")
    stand_in = tmp_path / "bin" / "crontab"
    stand_in.parent.mkdir()
    stand_in.write_text(f"#!/bin/sh\n[ $1 = -l ] && exec cat '{tab}'; exec cat >'{tab}'\n")
    stand_in.chmod(0o755)
    path = {"PATH": f"{stand_in.parent}:{os.environ['PATH']}"}
    for at in ("Fri 20:30", "daily 06:00"):
        done = run("timetable", job, "--at", at, "--install", cwd=tmp_path, env=path)
        assert done.code == 0
        assert "uses the environment variable FEN_DIR, which" in done.err
    lines = tab.read_text().splitlines()
    assert lines[:2] == ["5 4 * * * mine", f"# willow-cart errand {job}"]
    assert (len(lines), lines[2].startswith("0 6 * * * ")) == (3, True)


def test_since_the_last_good_run(tmp_path: Path, place: StandIn) -> None:
    now = time.time()
    place.exhibits |= {
        "x/old.csv": Exhibit(b"1", modified=now - 9e5),
        "x/new.csv": Exhibit(b"2", modified=now + 5000),
    }
    job = write(
        tmp_path,
        f'into = "d"\n[[source]]\nfrom = "{place.base}/x/"\nsince = "last run"\n'
        '[[step]]\nrun = "test -e go"\n',
    )
    first = run("errand", job, cwd=tmp_path)
    assert (first.code, "all arrived" in first.out) == (1, True)
    (tmp_path / "go").touch()
    # It did not end well, so nothing is left out yet.
    assert "all unchanged" in run("errand", job, cwd=tmp_path).out
    assert "1 chosen: unchanged" in run("errand", job, cwd=tmp_path).out
    place.exhibits["x/old.csv"] = Exhibit(b"3", modified=now + 9000)
    assert "2 chosen: 1 arrived, 1 unchanged" in run("errand", job, cwd=tmp_path).out
    elsewhere = tmp_path / "copy"
    elsewhere.mkdir()
    (elsewhere / "go").touch()
    copied = elsewhere / job.name
    copied.write_text(job.read_text())
    assert "2 chosen: all arrived" in run("errand", copied, cwd=tmp_path).out


def test_what_was_typed_is_written_down_and_does_the_same(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"x/a.csv": Exhibit(b"1"), "x/deep/c.csv": Exhibit(b"2" * 20_000)}
    haul = ["haul", f"{place.base}/x/", "--depth", "all", "--at-least", "10kB", "--ext", "csv,txt",
            "--ext", "tsv", "--lanes", "2", "--into", "d", "--file-as", "{kind}/{name}",
            "--note", 'her "own" words']  # fmt: skip
    done = run(*haul, "--write-errand", "job.toml", cwd=tmp_path)
    assert (done.code, "written to job.toml" in done.err) == (0, True)
    assert files_in(tmp_path / "d") == {"table/c.csv": b"2" * 20_000}
    assert (
        (tmp_path / "job.toml")
        .read_text()
        .startswith(
            f"""into = "d"
note = "her \\"own\\" words"

[[source]]
from = ["{place.base}/x/"]
depth = "all"
ext = ["csv,txt", "tsv"]
at_least = "10kB"

[haul]
lanes = "2"

[filing]
file_as = "{{kind}}/{{name}}"
"""
        )
    )
    again = run("errand", "job.toml", cwd=tmp_path)
    assert again.out.startswith("2 offered, 1 chosen: unchanged")
    twice = run(*haul, "--write-errand", "job.toml", cwd=tmp_path)
    assert (twice.code, "job.toml: already exists; name a new file" in twice.err) == (2, True)
    load = run("load", f"{place.base}/x/", "--cart", "c.csv", "--write-errand", "l.toml",
               cwd=tmp_path)  # fmt: skip
    assert load.code == 0
    assert run("errand", "l.toml", cwd=tmp_path).code == 0
    assert set(files_in(tmp_path / "data")) == {"a.csv"}


def test_what_is_offered_no_more_is_told_and_put_aside_if_wished(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {f"x/{name}.csv": Exhibit(name.encode()) for name in "abcd"}
    text = f'into = "d"\n[[source]]\nfrom = "{place.base}/x/"\ndrop = ["d*"]\n'
    job = write(tmp_path, text)
    assert run("errand", job, cwd=tmp_path).code == 0
    del place.exhibits["x/a.csv"], place.exhibits["x/d.csv"]
    # Something that no errand has brought, or that was changed here, is nobody's to move.
    (tmp_path / "d" / "own.csv").write_text("own")
    assert "1 no longer offered, such as a.csv" in run("errand", job, "--preview", cwd=tmp_path).out
    kept = run("errand", job, cwd=tmp_path)
    assert "1 file no longer offered, such as a.csv; kept" in kept.err
    assert "no longer offered" not in run("errand", job, cwd=tmp_path).err  # told once
    job.write_text(f'gone = "aside"\n{text}')
    (tmp_path / "d" / "b.csv").write_text("changed here")
    del place.exhibits["x/b.csv"]
    place.exhibits["x/e.csv"] = Exhibit(b"e")
    changed = run("errand", job, cwd=tmp_path)
    assert "1 file no longer offered, such as b.csv; 0 moved" in changed.err
    del place.exhibits["x/c.csv"]
    aside = run("errand", job, cwd=tmp_path)
    assert "1 file no longer offered, such as c.csv; 1 moved to d/.willow/aside" in aside.err
    assert set(files_in(tmp_path / "d")) == {"a.csv", "b.csv", "e.csv", "own.csv"}
    (there,) = (tmp_path / "d" / ".willow" / "aside").rglob("c.csv")
    assert there.read_bytes() == b"c"
    assert "missing" not in run("audit", "d", "--csv", cwd=tmp_path).out
    # It comes back, and is there again.
    place.exhibits["x/c.csv"] = Exhibit(b"c")
    assert run("errand", job, cwd=tmp_path).code == 0
    assert (tmp_path / "d" / "c.csv").read_bytes() == b"c"
    # Where nobody could look, nothing is said to be gone.
    place.exhibits.clear()
    assert "no longer offered" not in run("errand", job, cwd=tmp_path).err
    # Another choice is no reason to say so either.
    place.exhibits |= {"x/c.csv": Exhibit(b"c"), "x/e.csv": Exhibit(b"e")}
    job.write_text(job.read_text().replace("d*", "c*"))
    assert "no longer offered" not in run("errand", job, cwd=tmp_path).err


def test_a_survey_is_written_down_as_an_errand(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"x/2031-05/level_203105{day:02d}.csv": Exhibit(b"1") for day in (1, 2, 3)}
    place.exhibits |= {"x/2031-05/map.png": Exhibit(b"2"), "x/2031-05/deep/a.csv": Exhibit(b"3")}
    made = run("errand", "job.toml", "--new", f"{place.base}/x/2031-05/", cwd=tmp_path)
    assert (made.code, "written to job.toml" in made.err) == (0, True)
    text = (tmp_path / "job.toml").read_text()
    assert 'into = "data/{month}"' in text
    assert f'from = "{place.base}/x/{{month}}/"' in text
    assert '# keep = ["level_{month:%Y%m}??.csv"]  # 3 of them' in text
    assert '# ext = ["csv"]  # 3 csv, 1 png' in text
    assert "# depth = 2  # 1 folder not entered, such as deep/" in text
    assert run("errand", "job.toml", cwd=tmp_path).code == 0
    assert len(files_in(tmp_path / "data/2031-05")) == 4
    # Every hint can be taken as it is.
    job = tmp_path / "job.toml"
    job.write_text(text.replace("# keep =", "keep =").replace("# depth =", "depth ="))
    assert "3 chosen: all unchanged" in run("errand", job, cwd=tmp_path).out
    again = run("errand", "job.toml", "--new", f"{place.base}/x/", cwd=tmp_path)
    assert (again.code, "already exists" in again.err) == (2, True)


def test_failures_are_mailed_by_the_machine_s_own_program(tmp_path: Path, place: StandIn) -> None:
    text = f'into = "d"\nmail_to = "ida"\n[[source]]\nfrom = "{place.base}/a.csv"\n'
    job = write(tmp_path, text)
    program = tmp_path / "bin" / "sendmail"
    program.parent.mkdir()
    program.write_text(f"#!/bin/sh\necho \"$@\" >'{tmp_path}/how'; cat >'{tmp_path}/mail'\n")
    program.chmod(0o755)
    path = {"PATH": f"{program.parent}:{os.environ['PATH']}"}
    assert run("errand", job, cwd=tmp_path, env=path).code == 1
    assert (tmp_path / "how").read_text() == "-t -i\n"
    mail = message_from_bytes((tmp_path / "mail").read_bytes(), policy=default_policy)
    assert (mail["To"], mail["Subject"]) == ("ida", "Errand job.toml: problems")
    told = "job.toml: something did not arrive, or a step failed: 1 offered, 1 chosen, 1 failed"
    assert told in mail.get_content()
    program.write_text("#!/bin/sh\necho no such user >&2; exit 67\n")
    refused = run("errand", job, cwd=tmp_path, env=path)
    assert (refused.code, "sendmail failed: no such user" in refused.err) == (1, True)
    (tmp_path / "mail").unlink()
    place.exhibits["a.csv"] = Exhibit(b"1")
    assert run("errand", job, cwd=tmp_path, env=path).code == 0
    assert not (tmp_path / "mail").exists()
    job.write_text(text.replace("ida", "ida\\nBcc: all"))
    sly = run("errand", job, cwd=tmp_path, env=path)
    assert (sly.code, "line 2, mail_to: has more than one line" in sly.err) == (2, True)


MONDAY = """
into = "data"
expect_new = 2
[[source]]
from = "{base}/levels/"
[[step]]
unpack = "*.zip"
[[step]]
combine = "all.csv"
keep = ["*.csv"]
"""


def test_a_run_is_summed_up_with_counts_and_has_one_receipt(tmp_path: Path, place: StandIn) -> None:
    page = "<h1>Index of /levels/</h1>" + "".join(
        f'<a href="{name}">{name}</a>' for name in ("a.csv", "b.zip")
    )
    place.exhibits |= {
        "levels/": Exhibit(page.encode(), media_type="text/html"),
        "levels/a.csv": Exhibit(b"day,level\n1,1.5\n2,1.6\n"),
        "levels/b.zip": Exhibit(zipped({"c.csv": b"day,level\n3,1.7\n"})),
    }
    (tmp_path / "job.toml").write_text(MONDAY.format(base=place.base))
    first = run("errand", "job.toml", "--summary", "s.json", cwd=tmp_path)
    assert first.code == 0, first.err
    told = json.loads((tmp_path / "s.json").read_text())
    assert (told["exit_code"], told["meaning"]) == (0, "everything is done")
    assert told["counts"] == {
        "offered": 2, "chosen": 2, "arrived": 2, "failed": 0,
        "archives unpacked": 1, "files unpacked": 1,
        "tables combined": 2, "rows combined": 3,
    }  # fmt: skip
    assert [(each["step"], each["counts"]) for each in told["steps"]] == [
        ("unpack", {"archives": 1, "files": 1}), ("combine", {"tables": 2, "rows": 3}),
    ]  # fmt: skip
    # One receipt has the haul, what was unpacked, and the steps; no run of a step is in its way.
    receipt = run("receipt", "data", "--json", cwd=tmp_path).json()
    assert receipt["run"] == 1
    assert [each["path"] for each in receipt["members"]] == ["b/c.csv"]
    assert [each["counts"] for each in receipt["steps"]] == [
        {"archives": 1, "files": 1}, {"tables": 2, "rows": 3},
    ]  # fmt: skip
    shown = run("receipt", "data", cwd=tmp_path).out
    assert "step 2: willow-cart combine data '--keep=*.csv' --to=all.csv: 2 tables, 3 rows" in shown
    assert run("receipt", "data", "--html", "r.html", cwd=tmp_path).code == 0
    assert "2 tables, 3 rows" in (tmp_path / "r.html").read_text()
    # A second run finds nothing new, which is not what was expected of it.
    second = run("errand", "job.toml", "--summary", "s.txt", cwd=tmp_path)
    assert second.code == 1
    assert "2 new files expected (expect_new), 0 arrived" in second.err
    assert re.search(
        r"job.toml: too little is new: 2 new files expected, 0 arrived: 2 offered, 2 chosen,"
        r" 2 unchanged, 0 failed, 2 tables combined, 3 rows combined \(exit code 1\), took ",
        (tmp_path / "s.txt").read_text(),
    )
    assert run("receipt", "data", "--json", cwd=tmp_path).json()["run"] == 3
    # A step that is run again alone belongs to the last haul.
    before = run("receipt", "data", "--json", cwd=tmp_path).json()["steps"]
    assert run("errand", "job.toml", "--from", "unpack", cwd=tmp_path).code == 0
    receipt = run("receipt", "data", "--json", cwd=tmp_path).json()
    assert receipt["run"] == 3
    assert len(receipt["steps"]) == 2
    assert all(
        now["started"] >= then["ended"] for now, then in zip(receipt["steps"], before, strict=True)
    )
    with sqlite3.connect(tmp_path / "data" / ".willow" / "ledger.db") as ledger:
        assert ledger.execute("SELECT id, haul FROM run").fetchall() == [
            (1, None), (2, 1), (3, None), (4, 3), (5, 3),
        ]  # fmt: skip


def test_a_mail_tells_of_good_runs_as_well_if_asked_to(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"1\n")
    sendmail = tmp_path / "bin" / "sendmail"
    sendmail.parent.mkdir()
    sendmail.write_text(f'#!/bin/sh\ncat > "{tmp_path}/mail"\n')
    sendmail.chmod(0o755)
    source = f'[[source]]\nfrom = "{place.base}/a.csv"\n'
    errand = f'into = "data"\nmail_to = "ida@trust.example"\nWHEN\n{source}'
    env = {"PATH": f"{sendmail.parent}:{os.environ['PATH']}"}
    for when, is_sent in (("", False), ('mail_when = "always"', True)):
        (tmp_path / "job.toml").write_text(errand.replace("WHEN", when))
        assert run("errand", "job.toml", cwd=tmp_path, env=env).code == 0
        assert (tmp_path / "mail").exists() is is_sent
    mail = (tmp_path / "mail").read_text()
    assert "Subject: Errand job.toml: done" in mail
    assert "1 offered, 1 chosen, 1 unchanged" in mail.replace("=\n", "").replace("\n", " ")


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("expect_new = -1", "line 2, expect_new: not a whole number from 0 up; write 1"),
        ("expect_new = true", "line 2, expect_new: not a whole number from 0 up; write 1"),
        ('mail_when = "never"', "line 2, mail_when: not a valid value; write failure or always"),
    ],
)
def test_slips_at_the_top_of_an_errand_are_named(
    line: str, said: str, tmp_path: Path, here: RunHere
) -> None:
    (tmp_path / "job.toml").write_text(f'into = "d"\n{line}\n[[source]]\nfrom = "x.txt"\n')
    done = here(tmp_path, "errand", "job.toml")
    assert (done.code, said in done.err) == (2, True), done.err


def test_nothing_new_since_the_last_run_is_told_as_such(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"1", modified=1_600_000_000)
    errand = f'[[source]]\nname = "loggers"\nfrom = "{place.base}/a.csv"\nask_sizes = true\n'
    (tmp_path / "job.toml").write_text(f'into = "d"\n{errand}since = "last run"\n')
    assert run("errand", "job.toml", cwd=tmp_path).code == 0
    again = run("errand", "job.toml", cwd=tmp_path)
    assert again.code == 3
    assert re.search(
        r'loggers: nothing was modified since the last run \(20.*; since = "last run"\)', again.err
    )


def test_the_receipt_of_an_errand_is_that_of_its_last_run(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"1")
    job = write(tmp_path, f'into = "d"\n[[source]]\nfrom = "{place.base}/a.csv"\n')
    unknown = run("receipt", job, cwd=tmp_path)
    assert (unknown.code, "no run of this errand is known" in unknown.err) == (2, True)
    assert run("errand", job, cwd=tmp_path).code == 0
    assert run("receipt", job.name, "--json", cwd=tmp_path).json()["counts"] == {"arrived": 1}
    new = run("errand", "new.toml", "--new", f"{place.base}/a.csv", "--user", "ida",
              "--password", "env:FEN", cwd=tmp_path, env={"FEN": "x"})  # fmt: skip
    assert new.code == 0, new.err
    assert '"env:FEN"  # "file:PATH" for a timetable' in (tmp_path / "new.toml").read_text()
