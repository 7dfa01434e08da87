from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.engine.drawing import trees
from tests.engine.driving import Bench, conversation, flood
from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.spec import Aqm, LeafSpec, QueueSpec
from wily_sluice.engine.tree import CAP_BURST_FRAMES, CAP_BURST_TIME
from wily_sluice.forecast.split import split
from wily_sluice.units import MILLISECOND, SECOND, transmission_time

RATE = 2_000_000


def root(*children: QueueSpec, rate: int = RATE) -> QueueSpec:
    return QueueSpec("", rate, rate, children=children)


@settings(max_examples=60)
@given(trees(RATE))
def test_hungry_leaves_reach_the_exact_split(spec: QueueSpec) -> None:
    size, seconds = 300, 10
    rates = flood(spec, seconds, size).rates(seconds)
    for path, share in split(spec, {}).items():
        if path in rates:
            assert abs(rates[path] - share.rate) <= 0.02 * share.rate + 2 * size * 8 / seconds, path


@settings(max_examples=30)
@given(trees(RATE), st.data())
def test_what_idle_leaves_leave_is_divided_as_the_split_says(spec: QueueSpec, data: st.DataObject) -> None:
    size, seconds = 300, 10
    paths = [leaf.path for leaf in spec.leaves()]
    idle = data.draw(st.lists(st.sampled_from(paths), unique=True, max_size=len(paths) - 1))
    rates = flood(spec, seconds, size, idle).rates(seconds)
    for path, share in split(spec, dict.fromkeys(idle, 0)).items():
        if path in rates:
            assert abs(rates[path] - share.rate) <= 0.02 * share.rate + 2 * size * 8 / seconds, path


def test_guarantee_holds_in_every_second_while_brothers_flood() -> None:
    # 30% of 2 Mbit/s, at the lowest priority, beside two floods at the highest.
    quiet = QueueSpec("quiet", 600_000, RATE, priority=9)
    floods = [QueueSpec(f"flood{n}", 0, RATE, priority=1) for n in range(2)]
    bench = flood(root(quiet, *floods), seconds=6)
    times = [now for now, packet in bench.sent if packet.lane.leaf.path == "quiet"]
    for second in range(1, 6):
        carried = sum(second * SECOND <= now < (second + 1) * SECOND for now in times) * 300 * 8
        assert carried >= 600_000 * 0.99 - 2 * 300 * 8


@given(st.sampled_from([64_000, 300_000, 1_000_000]), st.integers(64, LONGEST_FRAME))
def test_cap_is_exceeded_by_no_more_than_its_burst_over_any_window(cap: int, size: int) -> None:
    bench = flood(root(QueueSpec("capped", 0, cap), QueueSpec("other", 0, RATE)), seconds=2, size=size)
    times = [now for now, packet in bench.sent if packet.lane.leaf.path == "capped"]
    burst = max(CAP_BURST_TIME, transmission_time(CAP_BURST_FRAMES * LONGEST_FRAME, cap))
    for first in range(0, len(times), 5):
        for last in range(first, len(times)):
            allowed = (times[last] - times[first] + burst) * cap / (8 * SECOND) + size
            assert (last - first + 1) * size <= allowed + 1


@settings(max_examples=20)
@given(trees(RATE))
def test_line_is_never_idle_while_an_uncapped_leaf_has_a_packet(spec: QueueSpec) -> None:
    spec = QueueSpec("", RATE, RATE, children=(*spec.children, QueueSpec("open", 0, RATE, priority=9)))
    bench = flood(spec, seconds=2)
    times = [now for now, _ in bench.sent]
    assert max(later - earlier for earlier, later in pairwise(times)) <= transmission_time(300, RATE) + 1


@given(st.lists(st.tuples(st.integers(0, 2), st.integers(1, 10), st.integers(0, 12)), min_size=20, max_size=120))
def test_strict_order_is_never_violated_by_more_than_the_packet_on_the_wire(
    arrivals: list[tuple[int, int, int]],
) -> None:
    bench = Bench(root(*(QueueSpec(f"p{priority}", 0, RATE, priority) for priority in (1, 4, 9))))
    who = [conversation(port) for port in (1, 2, 3)]
    offered: list[tuple[int, int]] = []
    for queue, count, wait in arrivals:
        for _ in range(count):
            bench.offer(who[queue], 1000, len(offered))
            offered.append((queue, bench.now))
        bench.run(bench.now + wait * MILLISECOND)
    bench.run(bench.now + 10 * SECOND)
    left = {packet.token: now for now, packet in bench.sent}
    # Whoever was sent had nobody of a lower number waiting, when its own sending began.
    for token, began in left.items():
        waiting = (
            other
            for other, (queue, arrived) in enumerate(offered)
            if queue < offered[token][0] and arrived < began < left.get(other, 0)
        )
        assert not list(waiting)


@pytest.mark.parametrize("aqm", ["fq-codel", "codel", "fifo"])
@pytest.mark.parametrize("limit", [{"most_packets": 20}, {"most_bytes": 20_000}, {"longest": 80 * MILLISECOND}])
def test_a_leaf_holds_no_more_than_its_limit_and_still_fills_the_line(aqm: Aqm, limit: dict[str, int]) -> None:
    # 20 packets of 1000 bytes are 20 kB, which take 80 ms at 2 Mbit/s.
    bench = Bench(root(QueueSpec("only", 0, RATE, leaf=LeafSpec(aqm, **limit))))
    who = conversation(1)
    deepest = 0
    while bench.now < 4 * SECOND:
        bench.offer(who, 1000)
        deepest = max(deepest, bench.shaper.tree.leaves[0].length)
        bench.run(bench.now + 3 * MILLISECOND)  # a third more than the line takes
    assert deepest == 20 if aqm == "fifo" else deepest <= 20
    assert len(bench.sent) + len(bench.dropped) + bench.shaper.tree.leaves[0].length == 1334
    assert len(bench.sent) == 1001  # one every 4 ms from 0 to 4 s


def test_a_packet_inside_its_guarantee_waits_for_at_most_the_packet_on_the_wire() -> None:
    calls = QueueSpec("calls", 200_000, RATE, priority=1)
    bench = Bench(root(calls, QueueSpec("bulk", 0, RATE)))
    bulk, caller = conversation(2), conversation(1)
    refill = bench.keep_full([bulk], LONGEST_FRAME)
    for number in range(50):
        bench.run(number * 20 * MILLISECOND, refill)
        bench.offer(caller, 200, bench.now)
    bench.run(SECOND, refill)
    waits = [now - packet.token for now, packet in bench.sent if packet.conversation is caller]
    assert len(waits) == 50
    assert max(waits) <= transmission_time(LONGEST_FRAME, RATE) + 1


def test_idleness_saves_up_no_burst_beyond_the_line() -> None:
    bench = Bench(root(QueueSpec("only", 0, RATE)))
    who = conversation(1)
    bench.run(5 * SECOND)
    bench.run(6 * SECOND, bench.keep_full([who], 1000))
    assert len(bench.sent) <= RATE // 8000 + 1


def test_packets_never_leave_closer_than_the_line_can_send_them_even_when_many_caps_open_at_once() -> None:
    bench = flood(root(*(QueueSpec(f"q{n}", 0, RATE // 10) for n in range(8))), seconds=3, size=1000)
    times = [now for now, _ in bench.sent]
    assert min(later - earlier for earlier, later in pairwise(times)) >= transmission_time(1000, RATE)


def test_a_queue_that_was_idle_has_saved_up_no_turns() -> None:
    bench = Bench(root(QueueSpec("steady", 0, RATE), QueueSpec("late", 0, RATE)))
    steady, late = (bench.keep_full([conversation(port)], 1000) for port in (1, 2))
    bench.run(3 * SECOND, steady)
    sent = len(bench.sent)
    bench.run(3 * SECOND + 400 * MILLISECOND, lambda: (steady(), late()))
    since = [packet.lane.leaf.path for _, packet in bench.sent[sent:]]
    assert abs(since.count("steady") - since.count("late")) <= 2


def test_a_caller_that_wakes_late_still_sends_the_full_rate() -> None:
    bench = Bench(root(QueueSpec("only", 0, RATE)))
    refill = bench.keep_full([conversation(1)], 1000, deep=60)
    count = 0
    for turn in range(1000):  # wakes every 10 ms, where a packet takes 4 ms
        bench.now = turn * 10 * MILLISECOND
        refill()
        while bench.shaper.release(bench.now) is not None:
            count += 1
    assert abs(count * 8000 / 10 - RATE) <= 0.005 * RATE


@settings(max_examples=40)
@given(st.lists(st.tuples(st.integers(1, 4), st.integers(64, 1518), st.integers(0, 4)), max_size=300))
def test_nothing_is_lost_duplicated_or_reordered_but_for_counted_drops(offers: list[tuple[int, int, int]]) -> None:
    spec = root(QueueSpec("a", 500_000, RATE), QueueSpec("b", 0, 300_000), QueueSpec("c", 0, RATE, 1, 1.0), rate=RATE)
    bench = Bench(spec)
    who = [conversation(1), conversation(2), conversation(3), conversation(1, host=2)]
    for number, (flow, size, wait) in enumerate(offers):
        bench.offer(who[flow - 1], size, number)
        bench.run(bench.now + wait * MILLISECOND)
    bench.run(bench.now + 30 * SECOND)
    out = [packet.token for _, packet in bench.sent]
    assert sorted(out + [packet.token for packet in bench.dropped]) == list(range(len(offers)))
    assert sum(leaf.drops for leaf in bench.shaper.tree.leaves) == len(bench.dropped)
    for conv in who:
        tokens = [packet.token for _, packet in bench.sent if packet.conversation is conv]
        assert tokens == sorted(tokens)
