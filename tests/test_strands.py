"""Large files in several strands: exact bytes, no byte twice, and never beyond the lanes."""

from __future__ import annotations

import random
import re
import subprocess
import tempfile
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.support.program import files_in, run, sha256, start, wait_for_bytes
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.destination import Destination
from willow_cart.events import Notice, StrandStarted
from willow_cart.hauling.run import haul_offers
from willow_cart.identity import LedgerKey
from willow_cart.ledger.receipt import read_receipt
from willow_cart.model import Checksum, Offer
from willow_cart.observer import Observer
from willow_cart.options.groups import PaceOptions
from willow_cart.protocols import Download
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.transfer.partials import PartialFile, PartialStore, Segment
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.segments import ConcurrencyProbe
from willow_cart.transfer.spans import Spans

CONTENT = random.Random(2031).randbytes(8_000_000)
SPEED = 3e6


def asked_for(place: StandIn) -> list[tuple[int, int]]:
    """The ranges that were asked for, in order; what was asked for whole begins at 0."""
    found = []
    for request in place.requests:
        first, last = re.fullmatch(
            r"bytes=(\d+)-(\d*)", request.fields.get("range", "bytes=0-")
        ).groups()  # type: ignore[union-attr]
        found.append((int(first), int(last) + 1 if last else len(CONTENT)))
    return found


pairs = st.lists(st.tuples(st.integers(0, 50), st.integers(0, 50)), max_size=8)


@given(pairs, st.integers(0, 60))
def test_spans_say_what_is_here_and_what_is_missing(
    given_pairs: list[tuple[int, int]], length: int
) -> None:
    here = {byte for first, end in given_pairs for byte in range(first, end)}
    spans = Spans.of(given_pairs)
    assert {byte for first, end in spans.pairs for byte in range(first, end)} == here
    assert spans.total == len(here)
    assert Spans.read(str(spans)) == spans
    assert spans.beginning == next(byte for byte in range(60) if byte not in here)
    gap = Spans.of((first, min(end, length)) for first, end in spans.pairs).first_gap(length)
    missing = [byte for byte in range(length) if byte not in here]
    assert (gap is None) == (not missing)
    if gap is not None:
        assert gap[1] is not None
        assert missing[: gap[1] - gap[0]] == list(range(*gap))  # type: ignore[arg-type]


def test_more_lanes_are_taken_while_they_pay() -> None:
    """A server that gives each connection its own megabyte a second, but four in all."""
    paying = ConcurrencyProbe(now=0.0)
    lanes, received, now, most = 1, 0.0, 0.0, 1
    while now < 20:
        now += 0.1
        received += 0.1 * min(lanes, 4) * 1e6
        lanes = paying.measure(now, int(received), lanes)
        most = max(most, lanes)
    assert (most, lanes) == (8, 4)
    busy = ConcurrencyProbe(now=0.0)
    assert {busy.measure(each / 10, each, 1) for each in range(100)} == {1, 2}, "one lane to spare"


def test_a_strand_that_comes_before_the_first_is_known_for_what_it_is(tmp_path: Path) -> None:
    """A kill in the moment in which a helper has written and the file's own lane has not."""
    delivery = FakeAccess({OWN: FakeFile(CONTENT)}).open(OWN)
    assert isinstance(delivery, Download)
    destination = Destination(tmp_path)
    partial = PartialStore(destination, {}, "this start").begin(Offer(OWN), delivery)
    record = partial.record(Offer(OWN))
    partial.open()
    first, second = partial.take(), partial.take()
    assert first is not None
    assert second is not None
    second.write(CONTENT[second.start : second.start + 1000])
    record = replace(record, digests=" ".join(map(str, partial.pieces())))
    found = PartialStore(destination, {LedgerKey(OWN): record}, "this start").find(Offer(OWN))
    assert found is not None
    assert found.spans == Spans(((second.start, second.start + 1000),))


def test_a_file_comes_in_strands_that_share_it_out(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["dawn.wav"] = Exhibit(CONTENT, speed=SPEED)
    (tmp_path / "list.txt").write_text(f"{place.base}/dawn.wav\n")
    outcome = run(
        "haul", "list.txt", "--into", "data", "--strands", "4", "--log", "log", cwd=tmp_path
    )
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "data") == {"dawn.wav": CONTENT}
    (row,) = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
    assert (row["sha256"], row["received"]) == (sha256(CONTENT), len(CONTENT))
    starts = [first for first, _ in asked_for(place)]
    assert starts[0] == 0
    assert len(starts) == len(set(starts)) >= 4, "no strand is asked for twice"
    assert (tmp_path / "log").read_text().count('"strand_started"') == len(starts) - 1
    assert list((tmp_path / "data" / ".willow" / "partial").iterdir()) == []


@pytest.mark.parametrize("number", range(3))
def test_killed_outright_every_strand_goes_on_where_it_was(
    tmp_path: Path, place: StandIn, number: int
) -> None:
    rng = random.Random(number)
    place.exhibits["dawn.wav"] = Exhibit(CONTENT, speed=7e5)
    (tmp_path / "list.txt").write_text(f"{place.base}/dawn.wav\n")
    haul = ["haul", "list.txt", "--into", "data", "--strands", "4"]
    for awaited in (200_000, 400_000):
        process = start(*haul, cwd=tmp_path)
        wait_for_bytes(tmp_path / "data", awaited, process)
        with suppress(subprocess.TimeoutExpired):
            process.communicate(timeout=rng.uniform(0.2, 0.6))
        process.kill()
        process.communicate()
        assert files_in(tmp_path / "data") == {}
    outcome = run(*haul, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "data") == {"dawn.wav": CONTENT}
    (row,) = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
    assert row["resumed"] > 200_000
    assert row["resumed"] + row["received"] == len(CONTENT)


def test_a_place_that_serves_no_parts_is_asked_for_them_once(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["dawn.wav"] = Exhibit(CONTENT, speed=SPEED, ranges=False)
    (tmp_path / "list.txt").write_text(f"{place.base}/dawn.wav\n")
    outcome = run("haul", "list.txt", "--into", "data", "--strands", "4", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "data") == {"dawn.wav": CONTENT}
    assert len(place.requests) == 2


OWN, MIRROR = "http://own.example/dawn.wav", "http://mirror.example/dawn.wav"


def slow(files: dict[str, FakeFile]) -> FakeAccess:
    """A fake that takes its time, so that other lanes find something to do."""
    return FakeAccess(files, piece=200_000, pause=0.01)


def bring(into: Path, access: FakeAccess, offer: Offer, observer: Observer | None = None) -> None:
    policy = HaulPolicy(pace=PaceOptions(attempts=4, pause=0.0, strands=4))
    assert haul_offers([offer], into, access, policy, observer=observer).exit_code == 0


def test_strands_never_go_beyond_a_hosts_lanes(tmp_path: Path) -> None:
    for lanes, per_host, most in ((8, 3, 3), (2, 4, 4), (8, 8, 4)):
        access = slow({OWN: FakeFile(CONTENT)})
        policy = HaulPolicy(pace=PaceOptions(lanes=lanes, lanes_per_host=per_host, strands=4))
        haul_offers([Offer(OWN)], tmp_path / f"{lanes}{per_host}", access, policy)
        assert 1 < access.most_open <= most  # how many are open together is the scheduler's


def test_strands_that_break_are_brought_by_others(tmp_path: Path) -> None:
    access = slow({OWN: FakeFile(CONTENT, breaks=[5_000_000, 1_000_000, 0, 500_000])})
    bring(tmp_path, access, Offer(OWN))
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}
    assert read_receipt(tmp_path).rows[0].sha256 == sha256(CONTENT)


def test_a_file_that_changes_under_its_strands_is_never_a_mix(tmp_path: Path) -> None:
    access = slow({OWN: FakeFile(CONTENT, breaks=[3_000_000])})
    newer = CONTENT[::-1]

    class Change(Observer):
        def note(self, event: Notice) -> None:
            if isinstance(event, StrandStarted):
                access.files[OWN] = FakeFile(newer, '"2"')

    bring(tmp_path, access, Offer(OWN), Change())
    assert files_in(tmp_path) == {"dawn.wav": newer}


def test_mirrors_bring_strands_if_a_checksum_proves_them(tmp_path: Path) -> None:
    good = (Checksum("sha256", sha256(CONTENT)),)
    for checksums, helped in ((good, True), ((), False)):
        access = slow({OWN: FakeFile(CONTENT), MIRROR: FakeFile(CONTENT, '"m"')})
        policy = HaulPolicy(pace=PaceOptions(lanes_per_host=1, strands=4))
        offer = Offer(OWN, checksums=checksums, mirrors=(MIRROR,))
        haul_offers([offer], tmp_path / str(helped), access, policy)
        assert files_in(tmp_path / str(helped)) == {"dawn.wav": CONTENT}
        assert (MIRROR in {address for address, _ in access.asked}) == helped


def test_a_mirror_with_other_bytes_is_found_out(tmp_path: Path) -> None:
    access = slow({OWN: FakeFile(CONTENT), MIRROR: FakeFile(CONTENT[::-1])})
    policy = HaulPolicy(pace=PaceOptions(pause=0.0, lanes_per_host=1, strands=4))
    offer = Offer(OWN, checksums=(Checksum("sha256", sha256(CONTENT)),), mirrors=(MIRROR,))
    haul_offers([offer], tmp_path, access, policy)
    assert MIRROR in {address for address, _ in access.asked}
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}


def test_a_mirror_of_another_size_is_not_asked_again(tmp_path: Path) -> None:
    access = slow({OWN: FakeFile(CONTENT), MIRROR: FakeFile(CONTENT[:-1])})
    policy = HaulPolicy(pace=PaceOptions(pause=0.0, lanes_per_host=1, strands=4))
    offer = Offer(OWN, checksums=(Checksum("sha256", sha256(CONTENT)),), mirrors=(MIRROR,))
    haul_offers([offer], tmp_path, access, policy)
    assert [address for address, _ in access.asked].count(MIRROR) == 1
    assert files_in(tmp_path) == {"dawn.wav": CONTENT}


class _Reader:
    """One lane's delivery of a strand: it sends what was asked for, whatever is still wanted."""

    def __init__(self, partial: PartialFile, strand: Segment) -> None:
        self.partial, self.strand, self.at = partial, strand, strand.start

    def step(self, size: int, content: bytes) -> bool:
        """Read and write a piece, or let go; whether there may be more to come."""
        strand = self.strand
        if strand.left and not self.partial.is_whole:
            data = content[self.at : min(self.at + size, strand.asked or 0)]
            assert data, "a strand never waits for what it has not asked for"
            self.at += len(data)
            strand.write(data)
            return True
        strand.release()
        return False


@settings(max_examples=300)
@given(st.integers(0, 10**9), st.integers(200, 3000))
def test_strands_that_come_and_go_in_any_order_leave_the_file_itself(
    seed: int, length: int
) -> None:
    rng = random.Random(seed)
    content = CONTENT[:length]
    with pytest.MonkeyPatch.context() as patch, tempfile.TemporaryDirectory() as folder:
        patch.setattr("willow_cart.transfer.partials._MIN_STRAND_BYTES", 20)
        access = FakeAccess({OWN: FakeFile(content)})
        delivery = access.open(OWN)
        assert isinstance(delivery, Download)
        destination = Destination(Path(folder))
        partial = PartialStore(destination, {}, "this start").begin(Offer(OWN), delivery)
        partial.recorded = True
        partial.open()
        partial.share = rng.choice([None, 50, length // 3])
        readers: list[_Reader] = []
        while not partial.is_whole:
            if len(readers) < 5 and rng.random() < 0.3 and (strand := partial.take()):
                readers.append(_Reader(partial, strand))
            if readers:
                reader = rng.choice(readers)
                broken = rng.random() < 0.05
                if broken:
                    reader.strand.release()
                if broken or not reader.step(rng.randrange(1, 90), content):
                    readers.remove(reader)
            assert partial.size == partial.spans.total <= length, "no byte counts twice"
        found = partial.finish()
        partial.close()
        assert destination.full_path(partial.file).read_bytes() == content
        destination.close()
        assert found["sha256"].digest == sha256(content)


def test_an_unhelpful_word_for_strands_is_not_understood(tmp_path: Path) -> None:
    outcome = run("haul", "x", "--into", "data", "--strands", "many", cwd=tmp_path)
    assert outcome.code == 2
    assert "many is not a whole number from 1 up" in outcome.err
