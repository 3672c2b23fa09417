"""The timeline of a haul, and the marks on its axes."""

from __future__ import annotations

import math
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.line import Weather, line
from willow_cart.addresses import host_of
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import ConnectionLost
from willow_cart.events import Freed, Postponed, Received, Requesting, Started
from willow_cart.filing import Filed
from willow_cart.hauling.run import TimelineRecorder, haul_offers
from willow_cart.ledger.receipt import open_receipt
from willow_cart.ledger.timeline import MAX_STEPS, OTHER_HOSTS, Timeline
from willow_cart.model import Offer
from willow_cart.options.groups import PaceOptions
from willow_cart.protocols.web import WebAccess
from willow_cart.report.figures import name_time, time_marks
from willow_cart.transfer.policy import HaulPolicy

DOINGS = st.lists(
    st.tuples(
        st.integers(0, 3),
        st.sampled_from(["a.example", "b.example"]),
        st.floats(0, 5000),
        st.floats(0, 900),
        st.none() | st.integers(0, 10**9),
    ),
    min_size=1,
    max_size=60,
)


@given(DOINGS)
def test_nothing_is_lost_however_long_it_takes(
    doings: list[tuple[int, str, float, float, int | None]],
) -> None:
    timeline = Timeline()
    for lane, host, since, lasting, count in doings:
        timeline.add(lane, host, since, since + lasting, count)
    cells = [cell for *_, cell in timeline.each()]
    assert sum(cell.bytes for cell in cells) == sum(count or 0 for *_, count in doings)
    asking = sum(lasting for *_, lasting, count in doings if count is None)
    assert math.isclose(sum(cell.asking for cell in cells), asking, abs_tol=1e-6)
    receiving = sum(lasting for *_, lasting, count in doings if count is not None)
    assert math.isclose(sum(cell.receiving for cell in cells), receiving, abs_tol=1e-6)
    assert max(number for number, *_ in timeline.each()) < MAX_STEPS
    kept = Timeline.from_text(timeline.as_text())
    assert kept.as_text() == timeline.as_text()


def test_a_haul_that_waits_at_its_end_has_a_timeline_that_can_be_read() -> None:
    now = 0.0
    recorder = TimelineRecorder(lambda: now)
    recorder.note(Requesting(0, "h.example"))
    now = 7.9
    recorder.note(Freed(0))
    now = 100.0  # nothing more happens, but it goes on
    written = recorder.written()
    timeline = Timeline.from_text(written)
    assert timeline.seconds == 100.0
    assert timeline.seconds <= timeline.step * MAX_STEPS
    # What earlier versions wrote in that case is read as well.
    earlier = Timeline()
    earlier.add(0, "h.example", 0.0, 7.9)
    earlier.seconds = 100.0
    read = Timeline.from_text(earlier.as_text())
    assert (read.seconds, read.step) == (100.0, timeline.step)
    assert math.isclose(sum(cell.asking for *_, cell in read.each()), 7.9, abs_tol=1e-6)


def test_what_came_over_a_while_is_not_shown_as_come_at_its_end() -> None:
    timeline = Timeline(step=1.0)
    timeline.add(0, "h", 0.5, 3.0, 1000)
    came = {number: cell.bytes for number, _, _, cell in timeline.each()}
    assert came == {0: 200, 1: 400, 2: 400, 3: 0}


def test_a_thousand_hosts_are_not_told_apart() -> None:
    timeline = Timeline()
    for number in range(1000):
        timeline.add(0, f"{number}.example", 0.0, 0.01, 10)
    hosts = {host: cell.bytes for _, _, host, cell in timeline.each()}
    assert len(hosts) == 41
    assert hosts[OTHER_HOSTS] == 9600


def test_a_lane_s_time_is_either_asking_or_receiving() -> None:
    now = 100.0
    timeline_recorder = TimelineRecorder(lambda: now)
    filed = Filed(Offer("http://h.example/x"), "x")
    timeline_recorder.note(Requesting(0, "h.example"))
    now = 101.0
    timeline_recorder.note(Started(0, filed, 30, 0))
    now = 103.0
    timeline_recorder.note(Received(0, 20))
    timeline_recorder.note(Postponed(0, filed, ConnectionLost("x", "the line broke"), 2.0))
    timeline_recorder.note(Freed(0))
    now = 110.0
    timeline_recorder.note(Requesting(0, "mirror.example"))
    now = 110.5
    timeline_recorder.note(Freed(0))
    timeline = Timeline.from_text(timeline_recorder.written())
    told: dict[str, list[float]] = {}
    for _, _, host, cell in timeline.each():
        sums = told.setdefault(host, [0, 0, 0])
        told[host] = [sums[0] + cell.asking, sums[1] + cell.receiving, sums[2] + cell.bytes]
    assert told == {
        "h.example": [pytest.approx(1.0, rel=1e-4), pytest.approx(2.0, rel=1e-4), 20],
        "mirror.example": [pytest.approx(0.5, rel=1e-4), 0, 0],
    }
    (wait,) = timeline.waits
    assert (wait.at, wait.lane, wait.path, wait.reason, wait.pause) == (
        3.0, 0, "x", "the line broke", 2.0
    )  # fmt: skip


@given(st.floats(0.02, 1e8))
def test_times_are_marked_within_the_axis(seconds: float) -> None:
    marks = time_marks(seconds)
    assert 1 <= len(marks) <= 10
    assert marks[-1] <= seconds * (1 + 1e-9)


def test_times_are_named_as_people_count_them() -> None:
    named = [name_time(seconds) for seconds in (0, 0.5, 45, 150, 5400, 280_800)]
    assert named == ["0 s", "0.5 s", "45 s", "2:30", "1:30:00", "3 d 6 h"]


def test_waiting_for_a_far_place_is_told_from_receiving(tmp_path: Path, place: StandIn) -> None:
    for number in range(6):
        place.exhibits[f"near/{number}.bin"] = Exhibit(bytes(50_000), speed=500_000)
        place.exhibits[f"far/{number}.bin"] = Exhibit(b"far")
    with line(place.base, Weather(latency=0.15)) as far, WebAccess() as access:
        addresses = [f"{base}/{path}" for path in sorted(place.exhibits)
                     for base in [far if path.startswith("far") else place.base]]  # fmt: skip
        haul_offers(map(Offer, addresses), tmp_path, access, HaulPolicy(pace=PaceOptions(lanes=2)))
    with open_receipt(tmp_path) as receipt:
        timeline = receipt.timeline
        assert receipt.summary.received == sum(cell.bytes for *_, cell in timeline.each())
    near = [cell for _, _, host, cell in timeline.each() if host == host_of(place.base)]
    away = [cell for _, _, host, cell in timeline.each() if host == host_of(far)]
    assert sum(cell.asking for cell in away) > 6 * 0.15 > sum(cell.receiving for cell in away)
    assert sum(cell.receiving for cell in near) > 6 * 0.03
    assert set(timeline.lanes()) == {0, 1}
