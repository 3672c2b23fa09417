"""One file's trip, on the seam's fake: resuming, starting over, checking, and what is there."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import pytest

from tests.support.program import files_in, sha256
from willow_cart.checks.digests import read_checksum
from willow_cart.errors import CannotStore, ConnectionLost, ServerBusy, TransferFailed
from willow_cart.events import MovedAside, Notice, Postponed, Received
from willow_cart.hauling.run import haul_offers
from willow_cart.hauling.summary import HaulSummary
from willow_cart.identity import address_id
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.receipt import ReceiptRow, read_receipt
from willow_cart.model import Checksum, Offer, State
from willow_cart.observer import Observer
from willow_cart.options.groups import PaceOptions
from willow_cart.protocols import Download
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer.policy import HaulPolicy

ADDRESS = "http://h.example/dawn.wav"
CONTENT = bytes(range(256)) * 12_000  # three pieces and a bit
QUICK = HaulPolicy(pace=PaceOptions(attempts=3, pause=0.0))


def bring(
    into: Path, access: FakeAccess, *checksums: Checksum, observer: Observer | None = None
) -> tuple[HaulSummary, ReceiptRow]:
    account = haul_offers(
        [Offer(ADDRESS, checksums=checksums)], into, access, QUICK, observer=observer
    )
    return account, read_receipt(into).rows[0]


def place(content: bytes = CONTENT, **faults: object) -> FakeAccess:
    return FakeAccess({ADDRESS: FakeFile(content, **faults)})  # type: ignore[arg-type]


def starts(access: FakeAccess) -> list[int]:
    return [start for _, start in access.asked]


def good(content: bytes = CONTENT) -> Checksum:
    return Checksum("sha256", sha256(content))


def test_a_file_arrives_whole_and_its_row_tells_the_truth(tmp_path: Path) -> None:
    account, row = bring(tmp_path, place(), good(), read_checksum("0" * 32, algorithm="md5"))
    assert account.counts == {State.REFUSED: 1}, "every promised checksum must hold"
    account, row = bring(tmp_path, place(), good())
    assert (row.state, row.size, row.sha256) == ("arrived", len(CONTENT), sha256(CONTENT))
    assert (row.verdict, row.expected, row.entity_tag) == (
        "sha256 from the cart",
        str(good()),
        '"1"',
    )
    assert (row.received, row.resumed, row.attempts) == (len(CONTENT), 0, 1)
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}


def test_a_broken_connection_is_gone_on_with_from_the_byte_where_it_broke(tmp_path: Path) -> None:
    access = place(breaks=[2_000_000, 0, 500_000])
    _, row = bring(tmp_path, access)
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}
    assert starts(access) == [0, 2_000_000, 2_000_000, 2_500_000]
    assert (row.received, row.resumed, row.attempts) == (len(CONTENT), 2_500_000, 4)
    assert row.sha256 == sha256(CONTENT)


def test_a_file_that_changes_between_two_parts_is_never_a_mix(tmp_path: Path) -> None:
    access = place(breaks=[2_000_000])
    newer = CONTENT[::-1] + b"newer"

    class Change(Observer):
        def note(self, event: Notice) -> None:
            if isinstance(event, Postponed):
                access.files[ADDRESS] = FakeFile(newer, '"2"')

    _, row = bring(tmp_path, access, observer=Change())
    assert files_in(tmp_path) == {"dawn.wav": newer}
    assert (row.entity_tag, row.resumed, row.sha256) == ('"2"', 0, sha256(newer))


def test_a_length_that_changes_under_the_same_mark_is_a_change(tmp_path: Path) -> None:
    access = place(breaks=[2_000_000])

    class Change(Observer):
        def note(self, event: Notice) -> None:
            if isinstance(event, Postponed):
                access.files[ADDRESS] = FakeFile(CONTENT[:-7])

    bring(tmp_path, access, observer=Change())
    assert files_in(tmp_path) == {"dawn.wav": CONTENT[:-7]}


def test_without_marks_parts_are_joined_only_under_a_checksum(tmp_path: Path) -> None:
    access = place(entity_tag=None, breaks=[2_000_000])
    bring(tmp_path / "unproved", access)
    assert starts(access) == [0, 0]
    access = place(entity_tag=None, breaks=[2_000_000])
    bring(tmp_path / "proved", access, good())
    assert starts(access) == [0, 2_000_000]
    for folder in ("unproved", "proved"):
        assert files_in(tmp_path / folder) == {"dawn.wav": CONTENT}


def test_what_only_a_checksum_could_join_is_not_joined_without_it(tmp_path: Path) -> None:
    access = place(entity_tag=None, breaks=[2_000_000, 0, 0, 0])
    bring(tmp_path, access, good())
    access.asked.clear()
    assert bring(tmp_path, access)[1].resumed == 0
    assert starts(access) == [0]
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}
    assert list((tmp_path / ".willow" / "partial").iterdir()) == []


def test_parts_that_do_not_belong_together_are_found_out_and_fetched_whole(tmp_path: Path) -> None:
    access = place(entity_tag=None, breaks=[2_000_000])
    newer = CONTENT[::-1]

    class Change(Observer):
        def note(self, event: Notice) -> None:
            if isinstance(event, Postponed):
                access.files[ADDRESS] = FakeFile(newer, None)

    account, _ = bring(tmp_path, access, good(newer), observer=Change())
    assert starts(access) == [0, 2_000_000, 0]
    assert account.counts == {State.ARRIVED: 1}
    assert files_in(tmp_path) == {"dawn.wav": newer}


def test_a_wrong_file_is_kept_aside_and_never_under_its_name(tmp_path: Path) -> None:
    account, row = bring(tmp_path, place(), good(b"other"))
    assert account.exit_code == 4
    assert files_in(tmp_path) == {}
    kept = tmp_path / ".willow" / "refused" / "dawn.wav"
    assert kept.read_bytes() == CONTENT
    assert str(kept) in row.reason
    assert sha256(CONTENT)[:12] in row.reason


def test_patience_ends_and_what_came_is_kept_for_the_next_run(tmp_path: Path) -> None:
    access = place(breaks=[1_500_000, 0, 0, 0])
    account, row = bring(tmp_path, access)
    assert account.counts == {State.FAILED: 1}
    assert "3 times in a row" in row.reason
    account, row = bring(tmp_path, access)
    assert starts(access)[-1] == 1_500_000
    assert (row.state, row.received, row.resumed) == (
        "arrived",
        len(CONTENT) - 1_500_000,
        1_500_000,
    )
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}


def test_a_server_that_asks_for_too_long_a_wait_is_given_up_with_its_words(tmp_path: Path) -> None:
    busy = ServerBusy(ADDRESS, "503", wait=9000, status=503)
    account, row = bring(tmp_path, place(troubles=[busy]))
    assert account.counts == {State.FAILED: 1}
    assert "asks for a wait of 9000 s" in row.reason


def test_a_second_run_asks_and_renews_only_what_changed(tmp_path: Path) -> None:
    access = place()
    bring(tmp_path, access)
    account, row = bring(tmp_path, access)
    assert (row.state, row.received, row.sha256) == ("unchanged", 0, sha256(CONTENT))
    access.files[ADDRESS] = FakeFile(b"June", '"2"')
    account, row = bring(tmp_path, access)
    assert account.counts == {State.ARRIVED: 1}
    assert files_in(tmp_path) == {"dawn.wav": b"June"}


def test_a_place_without_marks_is_fetched_and_compared(tmp_path: Path) -> None:
    access = place(entity_tag=None)
    bring(tmp_path, access)
    before = (tmp_path / "dawn.wav").stat().st_mtime_ns
    _, row = bring(tmp_path, access)
    assert row.state == "here"
    assert (tmp_path / "dawn.wav").stat().st_mtime_ns == before


def test_a_promised_checksum_that_holds_spares_the_place_a_question(tmp_path: Path) -> None:
    (tmp_path / "dawn.wav").write_bytes(CONTENT)
    access = place()
    for _ in range(2):
        _, row = bring(tmp_path, access, good())
        assert (row.state, row.verdict) == ("here", "sha256 from the cart")
    assert access.asked == []


def test_a_folder_that_was_copied_is_known_by_its_bytes(tmp_path: Path) -> None:
    access = place()
    bring(tmp_path, access)
    os.utime(tmp_path / "dawn.wav", (0, 0))
    access.asked.clear()
    for _ in range(2):
        _, row = bring(tmp_path, access)
        assert (row.state, row.received, row.sha256) == ("unchanged", 0, sha256(CONTENT))
    with KnownFiles(ledger_path(tmp_path)) as held:
        arrival = held.get(address_id(ADDRESS))
        assert arrival is not None
        assert arrival.mtime_ns == 0, "measured once, not in every run"


def test_a_file_that_is_gone_is_fetched_again(tmp_path: Path) -> None:
    access = place()
    bring(tmp_path, access)
    (tmp_path / "dawn.wav").unlink()
    _, row = bring(tmp_path, access)
    assert row.state == "arrived"


@pytest.mark.parametrize("hauled_before", [False, True])
def test_what_a_person_put_or_changed_there_is_kept_aside(
    tmp_path: Path, hauled_before: bool
) -> None:
    if hauled_before:
        bring(tmp_path, place())
    (tmp_path / "dawn.wav").write_bytes(b"my own notes")
    told: list[Path] = []

    class Hear(Observer):
        def note(self, event: Notice) -> None:
            if isinstance(event, MovedAside):
                told.append(event.kept)

    bring(tmp_path, place(), observer=Hear())
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}
    assert [kept.read_bytes() for kept in told] == [b"my own notes"]


def test_the_same_bytes_that_a_person_put_there_are_taken_in(tmp_path: Path) -> None:
    (tmp_path / "dawn.wav").write_bytes(CONTENT)
    access = place()
    assert bring(tmp_path, access)[1].state == "here"
    assert bring(tmp_path, access)[1].state == "unchanged"


@pytest.mark.posix
def test_a_link_that_leads_out_of_the_destination_is_not_followed(tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    into = tmp_path / "data"
    into.mkdir()
    (into / "2031").symlink_to(outside)
    offers = [Offer("http://h.example/2031/a.csv"), Offer("http://h.example/b.csv")]
    access = FakeAccess({offer.address: FakeFile(b"x") for offer in offers})
    account = haul_offers(offers, into, access, QUICK)
    assert account.counts == {State.FAILED: 1, State.ARRIVED: 1}
    assert list(outside.iterdir()) == []
    assert "2031 is a link" in read_receipt(into).rows[0].reason


def test_a_folder_in_the_way_is_told_and_the_bytes_are_not_fetched_twice(tmp_path: Path) -> None:
    (tmp_path / "dawn.wav").mkdir()
    (tmp_path / "dawn.wav" / "mine").touch()
    access = place()
    account, row = bring(tmp_path, access)
    assert account.counts == {State.FAILED: 1}
    assert "a folder exists in its place" in row.reason
    (tmp_path / "dawn.wav" / "mine").unlink()
    (tmp_path / "dawn.wav").rmdir()
    assert bring(tmp_path, access)[1].state == "unchanged", "filed from what was sealed"
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}


def test_an_interrupted_haul_keeps_what_came_and_says_what_remains(tmp_path: Path) -> None:
    stop = threading.Event()

    class Impatient(Observer):
        def note(self, event: Notice) -> None:
            if isinstance(event, Received):
                stop.set()

    access = place()
    account = haul_offers(
        [Offer(ADDRESS)], tmp_path, access, QUICK, observer=Impatient(), stop=stop
    )
    assert (account.exit_code, account.remaining) == (130, 1)
    assert bring(tmp_path, access)[1].resumed == 1 << 20


def test_what_is_not_here_yet_is_asked_for_before_what_may_have_changed(tmp_path: Path) -> None:
    files = {f"http://h.example/{name}.csv": FakeFile(name.encode()) for name in "abcd"}
    addresses = list(files)
    haul_offers(map(Offer, addresses[:2]), tmp_path, FakeAccess(files), QUICK)
    access = FakeAccess(files)
    haul_offers(map(Offer, addresses), tmp_path, access, HaulPolicy(pace=PaceOptions(lanes=1)))
    assert [address[-5] for address, _ in access.asked] == ["c", "d", "a", "b"]


SEALED = "5ea1ed" * 4


def test_a_run_that_was_cut_off_between_naming_and_entering_is_made_good(tmp_path: Path) -> None:
    """Crash points are made by hand: the ledger as it was, the files as they were."""
    access = place()
    bring(tmp_path, access)
    with KnownFiles(ledger_path(tmp_path)) as held:
        arrival = held.get(address_id(ADDRESS))
        assert arrival is not None
    for has_name in (True, False):
        into = tmp_path / f"crashed-{has_name}"
        bring(into, FakeAccess({ADDRESS: FakeFile(b"", troubles=[ConnectionLost("x", "y")] * 9)}))
        partial = into / ".willow" / "partial" / SEALED
        partial.write_bytes(CONTENT)
        stamp = partial.stat().st_mtime_ns
        from msgspec.structs import replace

        from willow_cart.ledger.entries import PartRecord
        from willow_cart.model import Validators

        sealed = replace(arrival, mtime_ns=stamp)
        with Ledger(ledger_path(into)) as ledger:
            ledger.keep_part(
                address_id(ADDRESS),
                PartRecord(
                    ADDRESS, ADDRESS, SEALED, len(CONTENT), Validators('"1"'), "safe", sealed
                ),
            )
        if has_name:
            partial.rename(into / "dawn.wav")
        access = place()
        _, row = bring(into, access)
        assert (row.state, row.received) == ("unchanged", 0)
        assert files_in(into) == {"dawn.wav": CONTENT}
        assert list((into / ".willow" / "partial").iterdir()) == []


def test_a_place_that_sends_more_than_it_announced_is_not_believed(tmp_path: Path) -> None:
    access = place()

    class Endless(FakeAccess):
        def open(self, address: str, **more: object) -> Download:
            delivery = access.open(address)
            assert isinstance(delivery, Download)
            delivery.read = lambda: b"x" * 1_000_000  # type: ignore[method-assign]
            return delivery

    account, row = bring(tmp_path, Endless({}))
    assert account.counts == {State.FAILED: 1}
    assert "more bytes than announced" in row.reason
    assert list((tmp_path / ".willow" / "partial").iterdir()) == []


def test_a_ledger_that_cannot_be_written_stops_the_haul_with_one_error(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import sqlite3

    def fail(*_: object) -> None:
        raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr(Ledger, "enter", fail)
    offers = [Offer(f"http://h.example/{n}.csv") for n in range(50)]
    access = FakeAccess({offer.address: FakeFile(b"x") for offer in offers})
    with pytest.raises(CannotStore, match="disk is full"):
        haul_offers(offers, tmp_path, access, QUICK)
    monkeypatch.undo()
    assert haul_offers(offers, tmp_path, access, QUICK).exit_code == 0
    assert len(files_in(tmp_path)) == 50


def test_every_failure_of_a_transfer_says_whether_to_try_again() -> None:
    leaves = [
        error for error in TransferFailed.__subclasses__() for error in error.__subclasses__()
    ]
    assert {error.__base__.__name__ for error in leaves if error.__base__} == {
        "TransientError",
        "PermanentError",
    }
