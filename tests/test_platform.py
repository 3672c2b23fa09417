"""What operating systems do in ways of their own, as far as it can be seen on this one."""

from __future__ import annotations

import errno
import json
import ntpath
import os
import signal
import stat
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from types import ModuleType, SimpleNamespace

import pytest

from tests.support.program import COMMAND, PATIENCE, RunHere, files_in, run, start, wait_for_bytes
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.destination import tree as destination_tree
from willow_cart.destination import unportable
from willow_cart.destination.destination import Obstacle
from willow_cart.errors import CannotStore
from willow_cart.events import Notice, Settled
from willow_cart.hauling.run import haul_offers
from willow_cart.model import Offer
from willow_cart.observer import Observer
from willow_cart.options.groups import PaceOptions
from willow_cart.platform import disks
from willow_cart.platform.own_folders import LinkFound
from willow_cart.platform.posix import containment as posix_containment
from willow_cart.platform.posix import disks as posix_disks
from willow_cart.platform.posix import files as posix_files
from willow_cart.platform.posix import processes as posix_processes
from willow_cart.platform.windows import containment as windows_containment
from willow_cart.platform.windows import files, processes
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer.policy import HaulPolicy

LARGE = 5_000_000_000


# Names


def test_paths_that_are_not_for_every_system_are_found_with_the_reason() -> None:
    long = "/".join(["a" * 60] * 5)
    paths = ["a/Level.csv", "a/level.csv", "b/level.csv", "CON.txt", "a:b.csv", "dot.", long, "é",
             "e\N{COMBINING ACUTE ACCENT}"]  # fmt: skip
    assert {each.path: (each.obstacle, each.other) for each in unportable(paths)} == {
        "a/level.csv": (Obstacle.CASE, "a/Level.csv"),
        "CON.txt": (Obstacle.NAME, ""),
        "a:b.csv": (Obstacle.NAME, ""),
        "dot.": (Obstacle.NAME, ""),
        long: (Obstacle.LENGTH, ""),
        "e\N{COMBINING ACUTE ACCENT}": (Obstacle.CASE, "é"),
    }


@pytest.mark.posix
def test_an_audit_and_an_archive_tell_of_names_that_clash_elsewhere(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["level.csv"] = Exhibit(b"1\n")
    assert run("haul", f"{place.base}/level.csv", "--into", "data", cwd=tmp_path).code == 0
    (tmp_path / "data" / "LEVEL.csv").write_bytes(b"2\n")
    for number in range(9):
        (tmp_path / "data" / f"{number}:00.csv").write_bytes(b"3\n")
    audited = run("audit", "data", cwd=tmp_path)
    assert audited.code == 0
    packed = run("pack", "data", "--to", "data.zip", cwd=tmp_path)
    assert packed.code == 0
    for outcome in (audited, packed):
        assert (
            "0:00.csv: not a valid name on Windows; rename it before it goes there" in outcome.err
        )
        assert "more paths of that kind" in outcome.err
        assert len(outcome.err.splitlines()) == 6
    for number in range(9):
        (tmp_path / "data" / f"{number}:00.csv").unlink()
    (told,) = run("audit", "data", cwd=tmp_path).err.splitlines()
    one, _, other = told.removeprefix("willow-cart: ").partition(": on Windows and macOS the same")
    assert {one, other.removeprefix(" path as ").partition(";")[0]} == {"LEVEL.csv", "level.csv"}


# Disks


@pytest.mark.posix
def test_the_kind_of_a_disk_is_known(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    device = tmp_path.stat().st_dev
    mounts = tmp_path / "mountinfo"
    monkeypatch.setattr(posix_disks, "_MOUNTS", mounts)
    for kind, is_fat in (("vfat", True), ("ext4", False), ("exfat", False)):
        numbers = f"{os.major(device)}:{os.minor(device)}"
        mounts.write_text(
            "21 1 0:19 / /sys rw shared:7 - sysfs sysfs rw\n"
            f"36 1 {numbers} / /media/a\\040stick rw,noatime - {kind} /dev/sdb1 rw\n"
        )
        assert posix_disks.is_fat(tmp_path) == is_fat
    mounts.write_text("nonsense\n")
    assert not posix_disks.is_fat(tmp_path)


def test_a_file_that_is_too_large_for_its_disk_is_told_before_it_is_fetched(
    tmp_path: Path, place: StandIn, here: RunHere, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By its size in a list at once; by what its server says before its first byte is kept."""
    sent: list[str] = []

    def announce(handler: StandInHandler) -> None:
        handler.start(200, {"Content-Length": str(LARGE), "ETag": '"1"'})
        if handler.command == "GET":
            sent.append(handler.path)
            handler.cut()

    place.exhibits = {"season.zip": Exhibit(script=announce), "level.csv": Exhibit(b"1\n")}
    monkeypatch.setattr(disks, "is_fat", lambda _folder: True)
    (tmp_path / "list.csv").write_text(
        f"url,size\n{place.base}/season.zip,{LARGE}\n{place.base}/level.csv,2\n"
    )
    assert here(tmp_path, "load", "list.csv", "--cart", "cart.csv").code == 0
    weighed = here(tmp_path, "weigh", "cart.csv", "--into", "data").out
    assert "1 file is too large: the disk takes files of at most 4.29 GB (FAT)" in weighed
    told = here(tmp_path, "haul", "list.csv", "--into", "data")
    assert told.code == 1
    assert (
        "season.zip: 5.00 GB, but the disk of data takes files of at most 4.29 GB (FAT)" in told.err
    )
    assert "--even-if-full" in told.err
    assert not sent
    for words in (
        ["list.csv", "--even-if-full"],
        [f"{place.base}/season.zip", f"{place.base}/level.csv"],
    ):
        into = f"data-{len(words)}-{words[-1][-5:]}"
        hauled = here(tmp_path, "haul", *words, "--into", into)
        assert hauled.code == 1, hauled.err
        assert (
            "season.zip: 5.00 GB, but this disk takes files of at most 4.29 GB (FAT)" in hauled.err
        )
        assert [*files_in(tmp_path / into).values()] == [b"1\n"]


@pytest.mark.parametrize(
    "containment", [pytest.param(posix_containment, marks=pytest.mark.posix), windows_containment]
)
def test_a_drive_that_goes_away_ends_the_haul_and_nothing_is_made_in_its_place(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, containment: ModuleType
) -> None:
    monkeypatch.setattr(destination_tree, "containment", containment)
    offers = [Offer(f"http://h.example/{number}/level.csv") for number in range(40)]
    access = FakeAccess({each.address: FakeFile(b"1" * 1000) for each in offers}, pause=0.003)

    class Unplug(Observer):
        settled_files = 0

        def note(self, event: Notice) -> None:
            self.settled_files += isinstance(event, Settled)
            if isinstance(event, Settled) and self.settled_files == 5:
                (tmp_path / "drive").rename(tmp_path / "unplugged")

    policy = HaulPolicy(pace=PaceOptions(pause=0.0))
    with pytest.raises(CannotStore, match="check the folder and run the same command to resume"):
        haul_offers(offers, tmp_path / "drive", access, policy, observer=Unplug())
    assert not (tmp_path / "drive").exists()
    done = haul_offers(offers, tmp_path / "unplugged", access, policy)
    assert done.exit_code == 0
    assert len(files_in(tmp_path / "unplugged")) == 40


# Consoles and signals


@pytest.mark.parametrize("encoding", ["cp1252", "cp437", "ascii"])
def test_what_a_console_cannot_show_is_written_out_and_data_is_in_utf_8(
    tmp_path: Path, encoding: str
) -> None:
    (tmp_path / "list.txt").write_text("http://127.0.0.1:1/łódź.csv\n", encoding="utf-8")
    env = {**os.environ, "PYTHONIOENCODING": encoding}

    def written(*words: str) -> bytes:
        done = subprocess.run(
            [*COMMAND, *words], cwd=tmp_path, env=env, capture_output=True, timeout=PATIENCE,
            check=True,
        )  # fmt: skip
        done.stderr.decode(encoding)  # nothing else is in it
        return done.stdout

    assert "\\u0142" in written("survey", "list.txt").decode(encoding)
    written("help", "all")
    (offer,) = json.loads(written("survey", "list.txt", "--json").decode())["offers"]
    assert offer["path"] == "łódź.csv"
    table = written("survey", "list.txt", "--csv")
    assert "łódź.csv" in table.decode()
    assert b"\r\r" not in table


@pytest.mark.posix
@pytest.mark.parametrize("ignored", [False, True])
def test_closing_the_terminal_ends_a_haul_in_order_unless_it_is_to_go_on(
    tmp_path: Path, place: StandIn, *, ignored: bool
) -> None:
    place.exhibits["dawn.wav"] = Exhibit(b"dawn" * 500_000, speed=1_000_000)
    # What a program has it do with a signal that is ignored, the programs that it starts inherit.
    before = signal.signal(signal.SIGHUP, signal.SIG_IGN if ignored else signal.SIG_DFL)
    try:
        haul = start("haul", f"{place.base}/dawn.wav", "--into", "data", cwd=tmp_path)
    finally:
        signal.signal(signal.SIGHUP, before)
    wait_for_bytes(tmp_path / "data", 0, haul)
    haul.send_signal(signal.SIGHUP)
    _, err = haul.communicate(timeout=PATIENCE)
    if ignored:
        assert haul.returncode == 0, err
    else:
        assert haul.returncode == 130
        assert b"stopped; 1 file left. Run the same command to resume." in err


# The family for Windows


@pytest.mark.parametrize("part", ["a\\b", "C:", "C:x", "notes.txt:hidden", "..", "nul\0"])
def test_no_part_of_a_path_leads_elsewhere(tmp_path: Path, part: str) -> None:
    folders = windows_containment.Folders(tmp_path)
    for path in (part, f"{part}/x", f"a/{part}", f"a/{part}/x"):
        with pytest.raises(OSError, match="not a path below the folder"):
            folders.place(path, makes=True)


def test_junctions_are_links(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Anyone may make them, and the system states that they are folders."""
    (tmp_path / "2031").mkdir()
    folder = SimpleNamespace(st_mode=stat.S_IFDIR, st_reparse_tag=0xA0000003)
    monkeypatch.setattr(os, "lstat", lambda _path: folder)
    with pytest.raises(LinkFound):
        windows_containment.Folders(tmp_path).place("2031/level.csv")


def test_long_paths_get_the_prefix_that_lifts_the_limit(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "sep", "\\")
    long = "\\".join(["a" * 50] * 6)
    reachable = windows_containment._reachable
    assert reachable("C:\\data\\x.csv") == "C:\\data\\x.csv"
    assert reachable(f"C:\\{long}") == f"\\\\?\\C:\\{long}"
    assert reachable(f"\\\\host\\share\\{long}") == f"\\\\?\\UNC\\host\\share\\{long}"
    assert reachable(reachable(f"C:\\{long}")) == f"\\\\?\\C:\\{long}"


@pytest.mark.parametrize(
    ("path", "address"),
    [
        (b"C:\\data\\May 2031", "file:///C:/data/May 2031"),
        (b"\\\\host\\share\\x.csv", "file://host/share/x.csv"),
    ],
)
def test_paths_with_drives_and_hosts_are_addresses(
    monkeypatch: pytest.MonkeyPatch, path: bytes, address: str
) -> None:
    """RFC 8089, appendix E.2 and E.3."""
    as_there = SimpleNamespace(path=ntpath, fsencode=os.fsencode)
    monkeypatch.setattr(files, "os", as_there)
    assert f"file://{files.address_bytes(path).decode()}" == address
    assert files.path_of_address(address.replace(" ", "%20")) == path


def test_a_file_that_another_program_looks_at_gets_its_name_later(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(files, "_PAUSE_SECONDS", 0.0)

    def refusing(times: int, change: Callable[[str, str], None]) -> Callable[[str, str], None]:
        refusals = [PermissionError(errno.EACCES, "in use")] * times

        def attempt(name: str, to: str) -> None:
            if refusals:
                raise refusals.pop()
            change(name, to)

        return attempt

    one, other = tmp_path / "one", tmp_path / "other"
    one.write_text("one")
    monkeypatch.setattr(os, "rename", refusing(3, os.rename))
    files.move_to_new_name(str(one), str(other))
    assert other.read_text() == "one"
    one.write_text("two")
    with pytest.raises(FileExistsError):
        files.move_to_new_name(str(one), str(other))
    monkeypatch.setattr(os, "replace", refusing(1000, os.replace))
    with pytest.raises(PermissionError):
        files.replace(one, other)
    assert other.read_text() == "one"


def test_words_of_a_command_keep_the_paths_of_their_system() -> None:
    command = r"""check.exe "C:\my data\x.csv" C:\data\ '#1' """
    assert processes.words_of(command) == ["check.exe", "C:\\my data\\x.csv", "C:\\data\\", "#1"]
    assert posix_processes.words_of(r"check my\ data") == ["check", "my data"]
    for family in (processes, posix_processes):
        with pytest.raises(ValueError, match="No closing quotation"):
            family.words_of("check 'x")


def test_names_that_older_disks_decompose_are_written_composed(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    decomposed = "e\N{COMBINING ACUTE ACCENT}.csv"
    assert posix_files.name_of(decomposed) == decomposed
    monkeypatch.setattr(sys, "platform", "darwin")
    assert posix_files.name_of(decomposed) == "é.csv"


def test_a_process_is_asked_to_end_by_a_file_where_there_are_no_signals(tmp_path: Path) -> None:
    program = (
        "import pathlib, sys, time\n"
        "from willow_cart.platform.windows.processes import listen_for_end\n"
        "listen_for_end(pathlib.Path(sys.argv[1]))\n"
        "try:\n"
        "    print('listening', flush=True)\n"
        "    while True:\n"
        "        time.sleep(0.02)\n"
        "except KeyboardInterrupt:\n"
        "    sys.exit(9)\n"
    )
    with subprocess.Popen(
        [sys.executable, "-c", program, str(tmp_path)], stdout=subprocess.PIPE
    ) as process:
        assert process.stdout is not None
        process.stdout.readline()
        processes.ask_to_end(process.pid, tmp_path)
        assert process.wait(PATIENCE) == 9
