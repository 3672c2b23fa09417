"""The full example on its stage: each command is shown before it is run."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from willow_cart.demo.places import Places, open_places
from willow_cart.demo.portal import Portal
from willow_cart.demo.stand_in import PUT_UP

SECRETS = {"FEN_PASSWORD": Portal.password, "RINGING_SECRET": Portal.client_secret}
"""The environment variables that the example's sign-ins name."""

_PROGRAM = [sys.executable, "-m", "willow_cart"]


class Stage:
    """Runs the commands of the example and prints its explanations.

    Args:
        folder: where the commands are run.
        home: where they keep their settings and their state, so that neither the person's settings
            nor an earlier run of the example changes what they do.
    """

    def __init__(self, folder: Path, home: Path) -> None:
        self._folder = folder
        homes = {"XDG_CONFIG_HOME": str(home / "config"), "XDG_STATE_HOME": str(home / "state")}
        self._env = os.environ | homes | SECRETS
        self._config = home / "config" / "willow-cart" / "config.toml"
        self._surprises = 0
        self._began = time.monotonic()

    def explain(self, heading: str, *lines: str) -> None:
        """Print an explanation."""
        print()
        if heading:
            print(f"== {heading} ==")
        print("\n".join(lines), flush=True)

    def configure(self, text: str) -> None:
        """Write the config file of the commands."""
        self._config.parent.mkdir(parents=True, exist_ok=True)
        self._config.write_text(text)

    def run(self, arguments: Sequence[str], expect: int) -> None:
        """Print and run a command, and check its exit code."""
        self._say(arguments)
        command = [*_PROGRAM, *arguments]
        done = subprocess.run(command, cwd=self._folder, env=self._env, check=False)
        self._note(done.returncode, expect)

    def run_and_kill(self, arguments: Sequence[str], after_bytes: int) -> None:
        """Print and run a command, and kill it after this many bytes."""
        self._say(arguments)
        into = self._folder / arguments[arguments.index("--into") + 1]
        process = subprocess.Popen([*_PROGRAM, *arguments], cwd=self._folder, env=self._env)
        while process.poll() is None and _partial_bytes(into) < after_bytes:
            time.sleep(0.02)
        process.kill()
        self._surprises += process.wait() == 0
        print(f"(killed with {_partial_bytes(into):,} bytes in {into.name}/.willow/partial)")

    def spoil(self, path: str) -> None:
        """Change one byte of a file."""
        with (self._folder / path).open("r+b") as file:
            file.seek(5000)
            file.write(b"?")

    def end(self) -> int:
        """Print the result."""
        seconds = time.monotonic() - self._began
        print(f"\nThe example took {seconds:.1f} s. Its files are in {self._folder}")
        if self._surprises:
            print(f"{self._surprises} commands ended with an unexpected exit code", file=sys.stderr)
        return 1 if self._surprises else 0

    def _say(self, arguments: Sequence[str]) -> None:
        print(f"\n$ {shlex.join(['willow-cart', *arguments])}", flush=True)

    def _note(self, code: int, expect: int) -> None:
        meaning = f"exit code {code}"
        if code != expect:
            self._surprises += 1
            meaning += f", expected {expect}"
        print(f"({meaning})", flush=True)


def _partial_bytes(into: Path) -> int:
    folder = into / ".willow" / "partial"
    return sum(path.stat().st_size for path in folder.iterdir()) if folder.is_dir() else 0


def run_example(folder: Path) -> int:
    """Run the full example in a folder; return 0 if every command ended as expected."""
    _clear(folder)
    with open_places(folder) as places, tempfile.TemporaryDirectory() as home:
        stage = Stage(folder, Path(home))
        _look_and_choose(stage, places.web)
        _look_elsewhere(stage, places)
        _sign_in(stage, places)
        _load_and_weigh(stage, places.web)
        _haul_and_go_on(stage, places)
        _use(stage, places.web)
        _take_pages(stage, places.web)
        _write_down(stage, places.outbox)
        return stage.end()


def _clear(folder: Path) -> None:
    """Remove what an earlier run of the example has left, and nothing else.

    The stand-ins have other addresses in every run, so a cart of an earlier one leads nowhere.
    """
    for name in (
        "may",
        "springs",
        "pictures",
        "levels",
        "dawns",
        "stick",
        "seasons",
        "report",
        "guide",
        "members",
    ):
        shutil.rmtree(folder / name, ignore_errors=True)
    for pattern in (
        "sounds.*",
        ".sounds.csv.*",
        "may.html",
        "levels.sqlite",
        "levels.zip",
        "report*.*",
    ):
        for file in folder.glob(pattern):
            file.unlink()


def _look_and_choose(stage: Stage, base: str) -> None:
    """Haul a list, a page, and nested folders."""
    stage.explain(
        "The Harrowmere Wetland Trust: May 2031",
        f"The trust's web server is running at {base}. A colleague has sent a list of",
        "addresses with one mistake in it. List what it offers; nothing is fetched.",
    )
    stage.run(["survey", "addresses.txt", "--ask-sizes"], expect=1)
    stage.explain(
        "Choose",
        "The same options choose in every command. A choice without matches is reported.",
    )
    stage.run(["survey", "archive.csv", "--keep", "level_*"], expect=3)
    stage.explain(
        "A page",
        "The page of the bird hides has a table under each month's heading, with three links per",
        "row. The survey numbers them and shows what you can choose by.",
    )
    hides = f"{base}/hides/2031.html"
    stage.run(["survey", hides], expect=0)
    stage.explain("", "Only the recordings of May:")
    stage.run(["survey", hides, "--column", "Recording", "--keep", "2031-05/*"], expect=0)
    stage.explain(
        "Subfolders",
        "A folder lists the files in it. Its subfolders are counted and named ...",
    )
    archive = f"{base}/archive/"
    stage.run(["survey", archive], expect=0)
    stage.explain("", "... and listed with --depth, as far as the site's robots.txt allows.")
    stage.run(["survey", archive, "--depth", "all", "--tree"], expect=0)


def _look_elsewhere(stage: Stage, places: Places) -> None:
    """Haul from an FTP outbox and a bucket, and test a server."""
    stage.explain(
        "An outbox and a bucket",
        "The contractor's FTP outbox, with wildcards; one folder of the camera traps' bucket.",
    )
    stage.run(["survey", f"{places.contractor}/outbox/level_2031060?.csv"], expect=0)
    bucket = ["s3://camera-traps/2031-05", "--endpoint", places.store]
    stage.run(["survey", *bucket, "--depth", "all", "--keep", "*/img_000[12].png"], expect=0)
    stage.explain("Knock", "Test a server before a job at night depends on it.")
    stage.run(["knock", f"{places.contractor}/outbox/"], expect=0)


def _sign_in(stage: Stage, places: Places) -> None:
    """Survey an outbox over SFTP, haul from behind a form, and choose from a catalogue."""
    stage.explain(
        "SFTP",
        "The same outbox over SFTP. The server's key is accepted by its fingerprint.",
    )
    outbox = f"{places.ssh[0]}/outbox/level_2031060?.csv"
    stage.run(["survey", outbox, *places.ssh_options], expect=0)
    stage.explain(
        "A partner's shared folder",
        "A WebDAV server shows no pages, but lists its folders with exact sizes and times.",
    )
    stage.run(["survey", f"{places.shared}/shared/", "--depth", "all"], expect=0)
    stage.explain(
        "Places that ask who you are",
        "The portal lets members in by a form, the ringing scheme lets programs in by tokens, and",
        "the nest register sends its users to a host that vouches for them. The config file says:",
        *(f"  {line}".rstrip() for line in places.sign_ins.splitlines()),
    )
    stage.configure(places.sign_ins)
    stage.run(["haul", f"{places.portal}/members/", "--into", "members"], expect=0)
    stage.run(["haul", f"{places.records}/records/", "--into", "members"], expect=0)
    stage.run(["haul", f"{places.nests[0]}/vouched/", "--into", "members"], expect=0)
    stage.explain(
        "A catalogue",
        "The portal describes the trust's maps: choose those of a place and of a time.",
    )
    there = ["--within-box", "4.15,52.0,4.3,52.1", "--within-time", "2031-05-01/2031-05-31"]
    stage.run(["survey", f"{places.portal}/catalogue", *there], expect=0)


def _load_and_weigh(stage: Stage, base: str) -> None:
    """Load, review, weigh and split a cart."""
    stage.explain(
        "A cart to review",
        "The hides' sounds are offered in two formats. Load them into a cart, a table that",
        "any spreadsheet opens ...",
    )
    sounds = [f"{base}/sounds/", "--depth", "all", "--ask-sizes"]
    stage.run(["load", *sounds, "--cart", "sounds.csv"], expect=0)
    stage.explain("", "... keep one format of each; rows that are out can be put back ...")
    stage.run(["pick", "sounds.csv", "--only", "--prefer", "wav,au"], expect=0)
    stage.explain("", "... and check the size and the free space before anything is fetched.")
    stage.run(["weigh", "sounds.csv", "--speed", "500kB/s", "--figure", "sounds.png"], expect=0)
    stage.explain("", "Split the cart over two sticks, with a month on each.")
    stage.run(["weigh", "sounds.csv", "--drives", "700kB,700kB"], expect=0)
    stage.run(["haul", "sounds.drive-1.csv", "--into", "stick"], expect=0)
    stage.explain(
        "", "The same job next month: new files are added, and rows that you took out stay out."
    )
    stage.run(["load", *sounds, "--cart", "sounds.csv"], expect=0)


def _haul_and_go_on(stage: Stage, places: Places) -> None:
    """Haul with all kinds of faults, and show the receipt."""
    base = places.web
    stage.explain(
        "Haul",
        "Haul the whole list and verify it by the trust's checksum list. The connection breaks",
        "during a recording, the server is busy for a second, and one checksum is wrong.",
    )
    sums = f"{base}/SHA256SUMS"
    stage.run(["haul", "addresses.txt", "--into", "may", "--checksums", sums], expect=4)
    stage.explain("From the archive", "The spring counts of every year, in their folders.")
    springs = ["--depth", "all", "--keep", "*/spring/*_counts.csv"]
    stage.run(["haul", f"{base}/archive/", *springs, "--into", "springs"], expect=0)
    stage.explain("From the bucket", "The pictures of a month; one key cannot be used as a path.")
    may = ["s3://camera-traps/2031-05/", "--endpoint", places.store, "--depth", "all"]
    stage.run(["haul", *may, "--into", "pictures"], expect=0)
    stage.explain(
        "Filed by month",
        "File the contractor's levels by the month in their names. First a preview.",
    )
    by_month = ["--name-parts", r"_(?P<year>\d{4})(?P<month>\d\d)", "--file-as"]
    levels = ["haul", f"{places.contractor}/outbox/", "--keep", "level_*", "--into", "levels"]
    stage.run([*levels, *by_month, "{year}-{month}/{name}", "--preview"], expect=0)
    stage.run([*levels, *by_month, "{year}-{month}/{name}"], expect=0)
    stage.explain(
        "A page in place of a file", "The server answers with a web page in place of an archive."
    )
    stage.run(["haul", f"{base}/seasons/2027.zip", "--into", "springs"], expect=4)
    stage.explain(
        "Killed and resumed",
        "A haul is killed while it receives two recordings ...",
    )
    dawns = ["haul", f"{base}/recordings/dawn_203105{{17,24}}.wav", "--into", "dawns"]
    stage.run_and_kill(dawns, after_bytes=500_000)
    stage.explain("", "... and the same command resumes.")
    stage.run(dawns, expect=0)
    stage.explain(
        "Again next month",
        "Unchanged files are not fetched again, and there are no numbered copies.",
    )
    stage.run(dawns, expect=0)
    stage.explain(
        "Audit",
        "A byte of a recording changes, as on a failing disk; the audit finds and repairs it.",
    )
    stage.spoil("may/recordings/dawn_20310503.wav")
    stage.run(["audit", "may"], expect=4)
    stage.run(["audit", "may", "--repair"], expect=0)
    stage.explain("The receipt of the May haul", "Read from the ledger in the folder.")
    stage.run(["receipt", "may", "--run", "1"], expect=0)
    stage.explain("", "The receipt as a web page with figures:")
    stage.run(["receipt", "may", "--run", "1", "--html", "may.html"], expect=0)


def _use(stage: Stage, base: str) -> None:
    """Unpack archives, combine tables, and pack everything."""
    stage.explain(
        "Inside archives",
        "List an archive by fetching only its directory. Then unpack archives, each season into",
        "a folder of its own, without keeping the archives.",
    )
    stage.run(["survey", f"{base}/seasons/2029.zip", "--as", "archive"], expect=0)
    archives = ["haul", f"{base}/seasons/{{2029,2030}}.zip", "--into", "seasons"]
    stage.run([*archives, "--unpack", "*.zip", "--archives", "remove"], expect=0)
    stage.explain(
        "One table for a month",
        "Combine the contractor's daily files of May into one table of a database. Run again, the",
        "command adds only what is new.",
    )
    may = ["--keep", "level_203105??.csv", "--name-parts", r"_(?P<year>\d{4})(?P<month>\d\d)"]
    combine = ["combine", "levels", *may, "--to", "levels.sqlite"]
    stage.run(combine, expect=0)
    stage.run(combine, expect=0)
    stage.explain("Pack", "The same files make the same archive, with their checksums in it.")
    stage.run(["pack", "levels", "--to", "levels.zip"], expect=0)


def _take_pages(stage: Stage, base: str) -> None:
    """Copy a site for reading offline."""
    stage.explain(
        "Read offline",
        "Copy the pages of the field guide with everything they need; one picture and one page are",
        "missing. Start reading at guide/index.html, without a network.",
    )
    stage.run(["offline", f"{base}/guide/", "--into", "guide", "--depth", "all"], expect=1)


def _write_down(stage: Stage, outbox: Path) -> None:
    """Run the whole job from a file, twice, with changed files the second time."""
    last_day, kept = outbox / "level_20310531.csv", outbox.parent / "level_20310531.csv"
    last_day.rename(kept)
    stage.explain(
        "The whole job in a file",
        "An errand's file says where files come from, which to choose, where they go, and what",
        "to do with them. The month is a value: set here, and last month by default.",
    )
    errand = ["errand", "report.toml", "--set", "month=2031-05"]
    stage.run([*errand, "--preview"], expect=0)
    stage.run(errand, expect=0)
    stage.explain(
        "Again, after changes",
        "The contractor delivers the last day, corrects the 12th, and withdraws the 3rd.",
        "The same errand fetches what is new and changed; no row is added twice.",
    )
    kept.rename(last_day)
    corrected = outbox / "level_20310512.csv"
    corrected.write_bytes(corrected.read_bytes().partition(b"2031-05-12T23:50")[0])
    os.utime(corrected, (PUT_UP + 86_400, PUT_UP + 86_400))
    (outbox / "level_20310503.csv").unlink()
    stage.run([*errand, "--preview"], expect=0)
    stage.run(errand, expect=0)
