"""A power cut at any moment: what was not synced is gone, and nothing else."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
import stat
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.support.program import files_in
from willow_cart.hauling.run import haul_offers
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.model import Offer
from willow_cart.options.groups import PaceOptions
from willow_cart.platform import disks, files
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer import commit as commit_thread
from willow_cart.transfer import partials
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.spans import Spans

LARGE = random.Random(2031).randbytes(5_000_000)


class Disk:
    """Knows what of a folder is safe, and how it looks after a power cut in the midst of a haul.

    Bytes are safe once their file was synced, names once their folder was, commits once one was
    made to last. Of all else the worst is assumed: names as they were, and zeros for bytes, as far
    as the file had grown.

    Args:
        root: the folder.
        after: where to put what is left of it.
        at: the power is cut at this event, counted from 1.
    """

    def __init__(self, root: Path, after: Path, at: int) -> None:
        self._root, self._after, self._at = root, after, at
        self._bytes: dict[int, bytes] = {}
        self._names: dict[str, dict[str, int]] = {}
        self._ledger: bytes | None = None
        self._events = 0
        self._lock = threading.RLock()

    @property
    def was_cut(self) -> bool:
        return self._events >= self._at

    def event(self, do: Callable[..., Any]) -> Callable[..., Any]:
        """Have a function count as an event, in front of which the power may be cut."""

        def counted(*arguments: Any, **more: Any) -> Any:
            with self._lock:
                self._events += 1
                if self._events == self._at:
                    self.cut()
                return do(*arguments, **more)

        return counted

    def sync(self, descriptor: int) -> None:
        status = os.fstat(descriptor)
        path = os.readlink(f"/proc/self/fd/{descriptor}")
        if stat.S_ISDIR(status.st_mode):
            self._names[path] = {each.name: each.inode() for each in os.scandir(path)}
        else:
            self._bytes[status.st_ino] = Path(path).read_bytes()

    def sync_all(self, _: int) -> bool:
        for folder, _folders, names in os.walk(self._root):
            self._names[folder] = {each.name: each.inode() for each in os.scandir(folder)}
            for name in names:
                path = Path(folder) / name
                self._bytes[path.stat().st_ino] = path.read_bytes()
        return True

    def commit_lasts(self) -> None:
        copy = self._after.parent / "copy.db"
        with (
            closing(sqlite3.connect(ledger_path(self._root))) as ledger,
            closing(sqlite3.connect(copy)) as to,
        ):
            ledger.backup(to)
        with self._lock:
            self._ledger = copy.read_bytes()

    def cut(self) -> None:
        """Leave what a power cut would."""
        sizes = {
            path.stat().st_ino: path.stat().st_size
            for path in self._root.rglob("*")
            if path.is_file()
        }
        self._leave(self._root, self._after, sizes)
        if self._ledger is not None and (self._after / ".willow").is_dir():
            ledger_path(self._after).write_bytes(self._ledger)
            with closing(sqlite3.connect(ledger_path(self._after))) as base:
                base.execute("UPDATE part SET boot = 'the one before'")
                base.commit()

    def _leave(self, folder: Path, after: Path, sizes: dict[int, int]) -> None:
        after.mkdir()
        for name, inode in self._names.get(str(folder), {}).items():
            if name.startswith("ledger.db"):
                continue
            if str(folder / name) in self._names or (folder / name).is_dir():
                self._leave(folder / name, after / name, sizes)
            else:
                safe = self._bytes.get(inode, b"")
                (after / name).write_bytes(safe.ljust(sizes.get(inode, 0), b"\0"))


@contextmanager
def watched(disk: Disk, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    transaction = Ledger.transaction

    @contextmanager
    def watched_transaction(ledger: Ledger, *, lasting: bool = False) -> Iterator[None]:
        with transaction(ledger, lasting=lasting):
            yield
        if lasting:
            disk.commit_lasts()

    with monkeypatch.context() as patched:
        patched.setattr(os, "fsync", disk.event(disk.sync))
        patched.setattr(os, "pwrite", disk.event(os.pwrite))
        patched.setattr(os, "replace", disk.event(os.replace))
        patched.setattr(files, "move_to_new_name", disk.event(files.move_to_new_name))
        patched.setattr(disks, "sync_file_system", disk.event(disk.sync_all))
        patched.setattr(Ledger, "transaction", watched_transaction)
        patched.setattr(partials, "_CHECKPOINT_SECONDS", 0.02)
        patched.setattr(commit_thread, "_SYNC_SECONDS", 0.02)
        yield


@pytest.mark.posix
@pytest.mark.parametrize("seed", range(12))
def test_what_was_synced_is_gone_on_with_and_nothing_half_has_a_name(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, seed: int
) -> None:
    rng = random.Random(seed)
    files = {f"http://h.example/{n}.csv": rng.randbytes(2000) for n in range(30)}
    files |= {f"http://h.example/large/{n}.wav": LARGE for n in range(2)}
    policy = HaulPolicy(pace=PaceOptions(strands=rng.choice([1, 3]), pause=0.0))
    offers = [Offer(address) for address in files]
    named = {address.removeprefix("http://h.example/"): each for address, each in files.items()}

    def place(pause: float) -> FakeAccess:
        served = {
            each: FakeFile(content, breaks=[rng.randrange(1, 4_000_000)])
            for each, content in files.items()
        }
        return FakeAccess(served, piece=100_000, pause=pause)

    disk = Disk(tmp_path / "data", tmp_path / "after", at=rng.randrange(1, 230))
    with watched(disk, monkeypatch):
        haul_offers(offers, tmp_path / "data", place(0.004), policy)
    if not disk.was_cut:
        disk.cut()

    left = files_in(tmp_path / "after")
    assert {path: named[path] for path in left} == left, "whatever has its name is whole"
    safe = 0
    if (ledger := ledger_path(tmp_path / "after")).is_file():
        with Ledger(ledger) as kept:
            for row in kept.rows("SELECT path FROM arrival"):
                assert row["path"] in left, "what the ledger tells of has its name"
            # One that is whole and sealed gets its name at once, and is not resumed.
            parts = [part for part in kept.parts().values() if part.sealed is None]
            safe = sum(Spans.read(part.synced).total for part in parts)
    assert haul_offers(offers, tmp_path / "after", place(0.0), policy).exit_code == 0
    assert files_in(tmp_path / "after") == named
    with Ledger(ledger) as kept:
        (row,) = kept.rows(
            "SELECT sum(resumed) AS resumed FROM result WHERE run = (SELECT max(id) FROM run)"
        )
    assert row["resumed"] >= safe
    shutil.rmtree(tmp_path / "data")
