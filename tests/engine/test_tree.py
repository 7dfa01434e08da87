from bisect import bisect_left
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import drawings
from tests.engine.drawing import promises, trees
from tests.engine.driving import Bench, conversation, flood
from wily_sluice.engine.packet import LONGEST_FRAME
from wily_sluice.engine.queueing.node import CAP_BURST_FRAMES, CAP_BURST_TIME
from wily_sluice.engine.queueing.spec import Aqm, LeafSpec, QueueSpec
from wily_sluice.forecast.split import split
from wily_sluice.units import BYTE_TIME, MILLISECOND, SECOND, transmission_time

RATE = 2_000_000


def root(*children: QueueSpec, rate: int = RATE) -> QueueSpec:
    return QueueSpec("", rate, rate, children=children)


@st.composite
def demands(draw: st.DrawFn, spec: QueueSpec) -> dict[str, int]:
    """Some leaves idle, some with a rate that they want, in bit/s; the others are hungry."""
    kinds = st.sampled_from([None, None, 0, RATE // 50, RATE // 10, RATE // 3])
    wanted = {leaf.path: draw(kinds) for leaf in spec.leaves()}
    return {path: rate for path, rate in wanted.items() if rate is not None}


@pytest.mark.thorough
@settings(max_examples=drawings(200))
@given(st.data())
def test_rates_over_ten_seconds_are_the_exact_split(data: st.DataObject) -> None:
    size, warm_up, seconds = 250, 3, 10
    spec = data.draw(trees(RATE))
    wanted = data.draw(demands(spec))
    bench = Bench(spec)
    refill = bench.feed(wanted, size)
    bench.run(warm_up * SECOND, refill)
    before = bench.rates(1)
    bench.run((warm_up + seconds) * SECOND, refill)
    rates = {path: (bits - before[path]) / seconds for path, bits in bench.rates(1).items()}
    shares = split(spec, wanted)
    # Two packets, and the burst of a promise, which may fall before the ten seconds or into them.
    packets = (2 * size + (LONGEST_FRAME if promises(spec) else 0)) * 8 / seconds
    for path, rate in rates.items():
        assert abs(rate - shares[path].rate) <= 0.01 * shares[path].rate + packets, path
    assert abs(sum(rates.values()) - shares[""].rate) <= 0.005 * shares[""].rate + packets


def restless(bench: Bench, dice: Random, steady: int) -> Callable[[], None]:
    """A refill under which leaf number `steady` is always hungry, and the others flood on and off with any sizes."""
    who = [conversation(index + 1) for index in range(len(bench.shaper.tree.leaves))]
    floods = [True] * len(who)

    def refill() -> None:
        if dice.random() < 0.01:
            floods[dice.randrange(len(who))] ^= True
        for index, leaf in enumerate(bench.shaper.tree.leaves):
            while leaf.length < 4 and (index == steady or floods[index]):
                bench.offer(who[index], 500 if index == steady else dice.choice([64, 500, LONGEST_FRAME]))

    return refill


@pytest.mark.thorough
@settings(max_examples=60)
@given(trees(RATE), st.integers(0, 2**32))
def test_a_guarantee_holds_in_every_second_whatever_the_brothers_send(spec: QueueSpec, seed: int) -> None:
    dice = Random(seed)
    leaves = list(spec.leaves())
    steady = dice.choice([index for index, leaf in enumerate(leaves) if leaf.guarantee] or [0])
    bench = Bench(spec)
    bench.run(5 * SECOND, restless(bench, dice, steady))
    times = [now for now, packet in bench.sent if packet.flow_path.leaf is bench.shaper.tree.leaves[steady]]
    for begun in range(0, 4 * SECOND, 50 * MILLISECOND):
        carried = bisect_left(times, begun + SECOND) - bisect_left(times, begun)
        assert carried * 500 * 8 >= leaves[steady].guarantee * 0.99 - 2 * LONGEST_FRAME * 8, begun


@pytest.mark.thorough
@settings(max_examples=60)
@given(trees(RATE), st.integers(0, 2**32))
def test_a_cap_is_exceeded_by_no_more_than_its_burst_over_any_window(spec: QueueSpec, seed: int) -> None:
    bench = Bench(spec)
    bench.run(3 * SECOND, restless(bench, Random(seed), 0))
    for capped in spec.walk():
        below = [
            leaf for leaf in promises(spec) if f"{leaf.path}/".startswith(f"{capped.path}/" if capped.path else "")
        ]
        promised = sum(max(leaf.largest, leaf.guarantee * (leaf.leaf.delay or 0) // BYTE_TIME) for leaf in below)
        burst = max(CAP_BURST_TIME * capped.cap // BYTE_TIME, CAP_BURST_FRAMES * LONGEST_FRAME) + promised
        # A bucket of this burst, which drains at the cap, never runs over.
        level, last = 0.0, 0
        for now, packet in bench.sent:
            if f"{packet.flow_path.leaf.path}/".startswith(f"{capped.path}/" if capped.path else ""):
                level = max(0.0, level - (now - last) * capped.cap / BYTE_TIME) + packet.size
                last = now
                assert level <= burst + LONGEST_FRAME + 1, capped.path


@pytest.mark.thorough
@settings(max_examples=40)
@given(trees(RATE), st.integers(0, 2**32))
def test_line_is_never_idle_while_an_uncapped_leaf_has_a_packet(spec: QueueSpec, seed: int) -> None:
    spec = replace(spec, children=(*spec.children, QueueSpec("open", 0, RATE, priority=9)))
    bench = Bench(spec)
    bench.run(2 * SECOND, restless(bench, Random(seed), len(bench.shaper.tree.leaves) - 1))
    for (earlier, packet), (later, _) in pairwise(bench.sent):
        assert later - earlier <= transmission_time(packet.size, RATE) + 1


def uncapped(spec: QueueSpec, guaranteed: bool = True) -> QueueSpec:
    """The same tree without caps, and without guarantees below strict parents."""
    below = guaranteed and spec.discipline != "strict"
    children = tuple(uncapped(child, below) for child in spec.children)
    return replace(spec, cap=RATE, guarantee=spec.guarantee if guaranteed else 0, children=children)


@pytest.mark.thorough
@settings(max_examples=60)
@given(trees(RATE), st.integers(0, 2**32))
def test_strict_order_is_never_violated_by_more_than_the_packet_on_the_wire(spec: QueueSpec, seed: int) -> None:
    spec = uncapped(replace(spec, discipline="strict"))
    priority = {
        child.path: child.priority for one in spec.walk() if one.discipline == "strict" for child in one.children
    }
    dice = Random(seed)
    bench = Bench(spec)
    leaves = bench.shaper.tree.leaves
    above = {leaf.path: [leaf.path[:index] for index in (*steps(leaf.path), None)] for leaf in leaves}
    for _ in range(600):
        bench.offer(conversation(dice.randrange(len(leaves)) + 1), dice.choice([64, 500, LONGEST_FRAME]))
        bench.now += dice.randrange(8) * MILLISECOND
        standing = [leaf.path for leaf in leaves if leaf.length]
        if (packet := bench.shaper.release(bench.now)) is None:
            continue
        # Where the ways of the packet sent and of one that stood part, under a strict parent, nobody comes before it.
        for other in standing:
            for ours, theirs in zip(above[packet.flow_path.leaf.path], above[other], strict=False):
                if ours != theirs:
                    assert priority.get(ours, 0) <= priority.get(theirs, 0) or ours not in priority
                    break


def steps(path: str) -> list[int]:
    """Where the names in a path end, but for the last."""
    return [index for index, letter in enumerate(path) if letter == "/"]


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
    since = [packet.flow_path.leaf.path for _, packet in bench.sent[sent:]]
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


@pytest.mark.thorough
@settings(max_examples=60)
@given(trees(RATE), st.integers(0, 2**32))
def test_nothing_is_lost_duplicated_or_reordered_but_for_counted_drops(spec: QueueSpec, seed: int) -> None:
    dice = Random(seed)
    bench = Bench(spec)
    leaves = bench.shaper.tree.leaves
    who = [conversation(index + 1, host) for index in range(len(leaves)) for host in (1, 2)]
    for number in range(400):
        bench.offer(dice.choice(who), dice.choice([64, 500, LONGEST_FRAME]), number)
        if dice.random() < 0.3:
            bench.run(bench.now + dice.randrange(20) * MILLISECOND)
    while any(leaf.length for leaf in leaves):
        bench.run(bench.now + 10 * SECOND)
    out = [packet.token for _, packet in bench.sent]
    assert sorted(out + [packet.token for packet in bench.dropped]) == list(range(400))
    assert sum(leaf.drops for leaf in leaves) == len(bench.dropped)
    for conv in who:
        tokens = [packet.token for _, packet in bench.sent if packet.conversation is conv]
        assert tokens == sorted(tokens)
