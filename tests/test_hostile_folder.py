"""Hostile folders: nothing in one leads out of it, and files of the user are recognised."""

from __future__ import annotations

import itertools
import os
import random
import shutil
import sqlite3
import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from pathlib import Path
from types import ModuleType

import pytest

from tests.support.program import (
    COMMAND,
    PATIENCE,
    RunHere,
    files_in,
    kill_haul,
    run,
    start,
    wait_for_bytes,
)
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.destination import Destination, LinkFound, Stamp
from willow_cart.destination import tree as destination_tree
from willow_cart.errors import CannotStore
from willow_cart.hauling.run import haul_offers
from willow_cart.ledger import opening
from willow_cart.ledger.opening import ledger_path
from willow_cart.model import Offer
from willow_cart.options.groups import PaceOptions
from willow_cart.platform.posix import containment as posix_containment
from willow_cart.platform.windows import containment as windows_containment
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer.policy import HaulPolicy

NAMES = ("2031/level_01.csv", "2031/level_02.csv", "notes.txt")
SECRET = b"the person's own thesis\n"


@pytest.fixture
def served() -> Iterator[StandIn]:
    with StandIn({name: Exhibit(f"{name}\n".encode()) for name in NAMES}) as place:
        yield place


@pytest.fixture
def handed(tmp_path: Path, served: StandIn) -> Path:
    """A folder that was hauled into, next to one that must not be touched."""
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside" / "thesis.txt").write_bytes(SECRET)
    (tmp_path / "list.txt").write_text("".join(f"{served.base}/{name}\n" for name in NAMES))
    assert run("haul", "list.txt", "--into", "data", cwd=tmp_path).code == 0
    return tmp_path / "data"


def replace_by_link(path: Path, to: Path) -> None:
    if path.is_dir():
        shutil.rmtree(path)
    else:
        path.unlink(missing_ok=True)
    path.symlink_to(to)


LINKS = {
    ".willow": "outside",
    ".willow/partial": "outside",
    ".willow/lock": "outside/thesis.txt",
    ".willow/ledger.db": "outside/thesis.txt",
    ".willow/ledger.db-wal": "outside/thesis.txt",
    ".willow/unpacking": "outside",
    ".willow/aside": "outside",
    ".willow/moving": "outside",
    "2031": "outside",
    "notes.txt": "outside/thesis.txt",
}
COMMANDS = (
    ("haul", "../list.txt", "--into", ".", "--if-present", "replace"),
    ("refile", ".", "--file-as", "new/{name}"),
    ("unpack", "."),
    ("audit", ".", "--repair"),
    ("receipt", ".", "--bag", "../bag"),
    ("pack", ".", "--to", "../packed.zip"),
    ("combine", ".", "--to", "../all.csv"),
)


READERS = (
    ("receipt", "."),
    ("receipt", ".", "--html", "../receipt.html"),
    ("receipt", ".", "--manifest", "datapackage"),
    ("audit", "."),
)


@pytest.mark.posix
@pytest.mark.parametrize("link", LINKS)
def test_no_link_in_a_folder_leads_a_command_out_of_it(
    tmp_path: Path, handed: Path, link: str, here: RunHere
) -> None:
    replace_by_link(handed / link, tmp_path / LINKS[link])
    for command in COMMANDS:
        assert "internal error" not in here(handed, *command).err, command
        assert files_in(tmp_path / "outside") == {"thesis.txt": SECRET}, command
        for made in ("packed.zip", "all.csv"):
            assert SECRET[:-1] not in (
                (tmp_path / made).read_bytes() if (tmp_path / made).exists() else b""
            )


def edit(folder: Path, statement: str, *values: object) -> None:
    with closing(sqlite3.connect(ledger_path(folder))) as base:
        base.execute(statement, values)
        base.commit()


EDITS: dict[str, tuple[str, tuple[object, ...]]] = {
    "a path that leads out": ("UPDATE arrival SET path = ?", ("../outside/thesis.txt",)),
    "a full path": ("UPDATE arrival SET path = ?", ("/etc/passwd",)),
    "a path in the own folder": ("UPDATE arrival SET path = ?", (".willow/lock",)),
    "a path of bytes": ("UPDATE arrival SET path = ?", (b"notes.txt",)),
    "a path of no UTF-8": ("UPDATE arrival SET path = CAST(? AS TEXT)", (b"\xff",)),
    "a path of zeros": ("UPDATE arrival SET path = ?", ("a\0b",)),
    "a device": ("UPDATE arrival SET path = ?", ("../../../../../../dev/zero",)),
    "a size of words": ("UPDATE arrival SET size = ?", ("large",)),
    "a size below nothing": ("UPDATE arrival SET size = ?", (-5,)),
    "a time of words": ("UPDATE arrival SET time = ?", ("yesterday",)),
    "a checksum of words": ("UPDATE arrival SET sha256 = ?", ("abc",)),
    "a twin outside": ("UPDATE arrival SET instead = ?", ("twin ../outside/thesis.txt",)),
    "a partial file outside": (
        "INSERT INTO part SELECT ?1, ?2, ?2, ?3, 1, NULL, NULL, NULL, 'safe', NULL, '', '', '', ''",
        ("http://h/x", "http://h/x", "../../outside/thesis.txt"),
    ),
    "a sealed file outside": (
        "INSERT INTO part VALUES (?1, ?1, ?1, ?2, 1, NULL, NULL, NULL, 'safe', ?3, '', '', '', '')",
        ("http://h/x", "0" * 24, '{"path": "../outside/thesis.txt"}'),
    ),
    "a move outside": (
        "INSERT INTO move VALUES (?, ?, ?, ?)", ("x", "notes.txt", "../outside/thesis.txt", "1")
    ),
    "a move from outside": (
        "INSERT INTO move VALUES (?, ?, ?, ?)", ("x", "../outside/thesis.txt", "a.txt", "1")
    ),
    "a file made outside": (
        "INSERT INTO made VALUES (?, ?, ?, ?)", ("../outside/thesis.txt", "0" * 64, 1, "")
    ),
    "an endless view": (
        "CREATE VIEW v AS WITH RECURSIVE n(x) AS (VALUES (1) UNION ALL SELECT 1 FROM n) SELECT 1",
        (),
    ),
    "a trigger": (
        "CREATE TRIGGER t AFTER INSERT ON run BEGIN DELETE FROM arrival; END", (),
    ),
    "a timeline of words": ("UPDATE run SET timeline = ?", ("{[",)),
    "a state of its own": ("UPDATE result SET state = ?", ("gone",)),
    "a start of words": ("UPDATE run SET started = ?", ("yesterday",)),
}  # fmt: skip


@pytest.mark.parametrize("odd", EDITS)
def test_an_altered_ledger_is_told_in_a_line_and_leads_nowhere(
    tmp_path: Path, handed: Path, odd: str, here: RunHere
) -> None:
    statement, values = EDITS[odd]
    edit(handed, statement, *values)
    (handed / "notes.txt").unlink()  # there is something to repair
    for command in (*READERS, *COMMANDS):
        told = here(handed, *command).err
        assert "internal error" not in told, (command, told)
        assert files_in(tmp_path / "outside") == {"thesis.txt": SECRET}, command


@pytest.mark.parametrize("seed", range(8))
def test_a_damaged_ledger_is_told_in_a_line(handed: Path, seed: int, here: RunHere) -> None:
    rng = random.Random(seed)
    ledger = ledger_path(handed)
    with closing(sqlite3.connect(ledger)) as base:
        base.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    content = bytearray(ledger.read_bytes())
    for _ in range(rng.choice([1, 20, 400])):
        content[rng.randrange(len(content))] = rng.randrange(256)
    ledger.write_bytes(content if seed % 2 else content[: rng.randrange(len(content))])
    for command in (*READERS, *COMMANDS):
        done = here(handed, *command)
        assert "internal error" not in done.err, (command, done.err)


def test_a_locked_ledger_is_told_in_a_line(
    handed: Path, here: RunHere, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(opening, "_LOCK_WAIT_SECONDS", 0.1)
    with closing(sqlite3.connect(ledger_path(handed), isolation_level=None)) as base:
        base.execute("PRAGMA locking_mode = EXCLUSIVE")
        base.execute("BEGIN EXCLUSIVE")
        for command in (*READERS, *COMMANDS):
            done = here(handed, *command)
            assert "internal error" not in done.err, (command, done.err)
        assert "is in use by another program" in here(handed, *COMMANDS[0]).err
        base.execute("ROLLBACK")
    assert here(handed, "audit", ".").code == 0


def test_a_ledger_whose_journal_names_another_file_is_not_opened(
    tmp_path: Path, handed: Path
) -> None:
    """SQLite deletes the file that a rollback journal names as the one above it."""
    victim = tmp_path / "outside" / "thesis.txt"
    name = os.fsencode(victim)
    ledger = ledger_path(handed)
    for ending in ("-wal", "-shm"):
        Path(f"{ledger}{ending}").unlink(missing_ok=True)
    magic = b"\xd9\xd5\x05\xf9\x20\xa1\x63\xd7"
    Path(f"{ledger}-journal").write_bytes(
        magic + b"\0" * 504 + name + len(name).to_bytes(4) + sum(name).to_bytes(4) + magic
    )
    done = run("receipt", "data", cwd=tmp_path)
    assert done.code == 2
    assert "its journal names another file" in done.err
    assert victim.read_bytes() == SECRET


def test_what_a_handed_on_ledger_says_came_from_this_machine_is_not_fetched(
    tmp_path: Path, handed: Path
) -> None:
    address = (tmp_path / "outside" / "thesis.txt").as_uri()
    edit(handed, "UPDATE arrival SET address = ?1, key = ?1 WHERE path = 'notes.txt'", address)
    (handed / "notes.txt").unlink()
    done = run("audit", "data", "--repair", cwd=tmp_path)
    assert "came from a file of this machine; use --local-files" in done.err
    assert not (handed / "notes.txt").exists()
    run("audit", "data", "--repair", "--local-files", cwd=tmp_path)
    assert (handed / "notes.txt").read_bytes() == SECRET


def test_a_sign_in_does_not_go_where_a_handed_on_ledger_says(tmp_path: Path, handed: Path) -> None:
    done = run("audit", "data", "--upstream", "--token", "env:TOKEN", cwd=tmp_path,
               env={"TOKEN": "s3cret"})  # fmt: skip
    assert done.code == 2
    assert "use --sign-in-at" in done.err


@pytest.mark.posix
def test_a_folder_swapped_for_a_link_during_a_haul_lets_nothing_out(tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    into = tmp_path / "data"
    offers = [Offer(f"http://h.example/2031/{number}.csv") for number in range(60)]
    access = FakeAccess({each.address: FakeFile(b"x" * 100) for each in offers}, pause=0.002)
    swapped, ended = threading.Event(), threading.Event()

    def swap() -> None:
        for number in itertools.count():
            # The haul may make the folder again between the two steps.
            with suppress(FileNotFoundError, FileExistsError):
                (into / "2031").rename(into / f"moved {number}")
                (into / "2031").symlink_to(outside)
                swapped.set()
            if swapped.is_set() or ended.is_set():
                return

    thread = threading.Thread(target=swap)
    thread.start()
    account = haul_offers(offers, into, access, HaulPolicy(pace=PaceOptions(lanes=2)))
    ended.set()
    thread.join()
    assert swapped.is_set()
    assert list(outside.iterdir()) == []
    assert account.exit_code == 1, "what could not be filed is told"


@pytest.mark.posix
def test_a_destination_swapped_for_a_link_during_a_haul_lets_nothing_out(
    tmp_path: Path, place: StandIn
) -> None:
    (tmp_path / "outside").mkdir()
    place.exhibits["slow.csv"] = Exhibit(b"x" * 200_000, speed=200_000)
    process = start("haul", f"{place.base}/slow.csv", "--into", "data", cwd=tmp_path)
    wait_for_bytes(tmp_path / "data", 1, process)
    (tmp_path / "data").rename(tmp_path / "moved")
    (tmp_path / "data").symlink_to("outside")
    _, err = process.communicate(timeout=PATIENCE)
    assert process.returncode == 1, err
    assert b"is a link" in err
    assert list((tmp_path / "outside").iterdir()) == []


def make_fifo(path: Path) -> None:
    os.mkfifo(path)


def make_link(path: Path) -> None:
    path.symlink_to("nowhere")


def make_own(path: Path) -> None:
    path.write_bytes(SECRET)


@pytest.mark.posix
@pytest.mark.parametrize("make", [make_fifo, make_link, make_own])
def test_what_lies_where_a_file_is_filed_is_put_aside_and_told(
    tmp_path: Path, served: StandIn, make: Callable[[Path], None]
) -> None:
    (tmp_path / "data").mkdir()
    make(tmp_path / "data" / "notes.txt")
    before = (tmp_path / "data" / "notes.txt").lstat().st_ino
    done = run("haul", f"{served.base}/notes.txt", "--into", "data", cwd=tmp_path)
    assert done.code == 0
    assert (tmp_path / "data" / "notes.txt").read_bytes() == b"notes.txt\n"
    (moment,) = (tmp_path / "data" / ".willow" / "aside").iterdir()
    kept = moment / "notes.txt"
    assert kept.lstat().st_ino == before
    assert str(kept.relative_to(tmp_path)) in done.err


def test_an_own_file_in_place_of_one_that_is_not_there_stays(
    tmp_path: Path, served: StandIn
) -> None:
    """Skipped for a twin, or taken away once it was unpacked: the path is free, not ours."""
    served.exhibits["again.txt"] = Exhibit(b"notes.txt\n")
    haul = ("haul", f"{served.base}/notes.txt", f"{served.base}/again.txt", "--into", "data",
            "--twins", "skip")  # fmt: skip
    assert run(*haul, cwd=tmp_path).code == 0
    skipped = {"notes.txt", "again.txt"} - set(files_in(tmp_path / "data"))
    (name,) = skipped
    (tmp_path / "data" / name).write_bytes(SECRET)
    served.exhibits[name] = Exhibit(b"another version\n")
    done = run(*haul, cwd=tmp_path)
    assert (tmp_path / "data" / name).read_bytes() == b"another version\n"
    (kept,) = (tmp_path / "data" / ".willow" / "aside").rglob(name)
    assert kept.read_bytes() == SECRET
    assert "moved to" in done.err


def test_a_partial_file_that_was_changed_is_begun_anew_and_told(tmp_path: Path) -> None:
    content = os.urandom(3_000_000)
    with StandIn({"dawn.wav": Exhibit(content, speed=2_000_000)}) as place:
        kill_haul(f"{place.base}/dawn.wav", tmp_path / "data", 1_000_000)
        process = start("haul", f"{place.base}/dawn.wav", "--into", "data", cwd=tmp_path)
        wait_for_bytes(tmp_path / "data", 1_500_000, process)
        process.terminate()  # it marks what is there as safe
        process.communicate()
        (partial,) = (tmp_path / "data" / ".willow" / "partial").iterdir()
        changed = bytearray(partial.read_bytes())
        changed[500_000] ^= 1
        partial.write_bytes(changed)
        done = run("haul", f"{place.base}/dawn.wav", "--into", "data", cwd=tmp_path)
    assert done.code == 0
    assert (tmp_path / "data" / "dawn.wav").read_bytes() == content
    assert "changed since the last run" in run("receipt", "data", cwd=tmp_path).out


def test_a_ledger_that_is_deleted_during_a_haul_is_made_again(tmp_path: Path) -> None:
    names = [f"{number}.csv" for number in range(30)]
    with StandIn({name: Exhibit(name.encode() * 1000, speed=400_000) for name in names}) as place:
        (tmp_path / "list.txt").write_text("".join(f"{place.base}/{name}\n" for name in names))
        process = start("haul", "list.txt", "--into", "data", "--lanes", "1", cwd=tmp_path)
        while not any((tmp_path / "data").glob("*.csv")):
            assert process.poll() is None
        for file in (tmp_path / "data" / ".willow").glob("ledger.db*"):
            file.unlink()
        process.communicate()
        assert process.returncode == 0
    done = run("audit", "data", cwd=tmp_path)
    assert done.code == 0
    assert "30 files" in done.out
    assert "all unchanged" in done.out


def test_a_folder_on_a_medium_that_cannot_be_written_is_read(
    tmp_path: Path, handed: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from willow_cart.ledger.ledger import Ledger
    from willow_cart.ledger.receipt import read_receipt

    before = {path: path.stat().st_mtime_ns for path in (handed / ".willow").iterdir()}
    monkeypatch.setattr(os, "access", lambda *_, **__: False)
    with Ledger(ledger_path(handed)) as ledger:
        assert len(list(ledger.latest_arrivals())) == len(NAMES)
    assert len(read_receipt(handed).rows) == len(NAMES)
    assert {path: path.stat().st_mtime_ns for path in (handed / ".willow").iterdir()} == before


@pytest.mark.posix
@pytest.mark.parametrize("containment", [posix_containment, windows_containment])
def test_every_way_to_a_file_is_contained(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, containment: ModuleType
) -> None:
    """The same contract with directory descriptors and without."""
    monkeypatch.setattr(destination_tree, "containment", containment)
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "thesis.txt").write_bytes(SECRET)
    root = tmp_path / "data"
    with Destination(root) as tree:
        with tree.create("own.txt") as file:
            file.write(b"own")
        (root / "link").symlink_to(outside)
        (root / "file").symlink_to(outside / "thesis.txt")
        for path in (
            "../outside/thesis.txt",
            "link/thesis.txt",
            "file",
            "a/../../outside/x",
            "",
            "/x",
        ):
            with pytest.raises((OSError, LinkFound)):
                tree.open(path)
            with pytest.raises((OSError, CannotStore)):
                tree.create(path).close()
            if path != "file":
                assert tree.status(path) is None, path
                with pytest.raises(CannotStore):
                    tree.place("own.txt", path)
            assert tree.stamp(path) is None
        assert [path for path, _ in tree.files(without=".willow")] == ["file", "link", "own.txt"]
        with pytest.raises(LinkFound):
            tree.make_folder("link/new")
        stamp = tree.stamp("own.txt")
        assert stamp == Stamp(3, (root / "own.txt").stat().st_mtime_ns)
        with tree.create("new.txt") as file:
            file.write(b"new")
        assert tree.place("new.txt", "own.txt", replaces=stamp) is None
        with tree.create("new.txt") as file:
            file.write(b"newer")
        kept = tree.place("new.txt", "own.txt", replaces=stamp)
        assert kept is not None
        assert kept.read_bytes() == b"new"
        tree.sync_folders()
    assert files_in(outside) == {"thesis.txt": SECRET}


def test_nothing_else_in_the_code_changes_files_below_a_destination() -> None:
    """Rooms that know a destination change files by its class alone."""
    allowed = {"destination", "demo", "errands", "platform", "standalone"}
    own = {"replacing.py", "runs.py", "bagit.py", "opening.py", "picking.py", "shelf.py",
           "kept_answers.py", "local.py", "database.py"}  # fmt: skip
    calls = (
        "files.replace(", "files.move_to_new_name(", "os.replace(", "os.rename(", "os.unlink(",
        "os.remove(", "os.link(", "os.mkdir(", "os.makedirs(", "shutil.rmtree(",
        "shutil.copyfile(", "shutil.copy2(", ".unlink(", ".write_bytes(", ".write_text(",
        ".rename(", ".mkdir(", ".symlink_to(", ".touch(",
    )  # fmt: skip
    import willow_cart

    root = Path(willow_cart.__file__).parent
    found = [
        f"{path.relative_to(root)}: {call}"
        for path in root.rglob("*.py")
        if path.relative_to(root).parts[0] not in allowed and path.name not in own
        for call in calls
        if call in path.read_text()
    ]
    assert found == []


@pytest.mark.posix
def test_the_own_folder_and_names_that_are_no_utf_8_are_no_destinations(
    tmp_path: Path, served: StandIn
) -> None:
    (tmp_path / "d" / ".willow").mkdir(parents=True)
    for into in (b"d/.willow", b"d/.willow/x", b"d\xff"):
        done = subprocess.run(
            [*COMMAND, b"haul", f"{served.base}/notes.txt".encode(), b"--into", into],
            cwd=tmp_path, capture_output=True, check=False,
        )  # fmt: skip
        told = done.stderr.decode("utf-8", "backslashreplace")
        assert done.returncode == 2, told
        assert "Traceback" not in told
        assert told.count("\n") == 1, told
