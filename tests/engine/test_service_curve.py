from dataclasses import replace
from random import Random

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from tests.conftest import drawings
from tests.engine.drawing import promises, trees
from tests.engine.driving import Bench, conversation
from wily_sluice.engine.packet import LONGEST_FRAME
from wily_sluice.engine.queueing.service_curve import Promise
from wily_sluice.engine.queueing.spec import LeafSpec, QueueSpec
from wily_sluice.units import BYTE_TIME, MILLISECOND, SECOND, Nanoseconds, transmission_time

RATE = 2_000_000
VOICE = QueueSpec("voice", 100_000, RATE, leaf=LeafSpec(delay=10 * MILLISECOND))
NESTED = QueueSpec("", RATE, RATE, children=(
    QueueSpec("bulk", RATE // 2, RATE, priority=1),
    QueueSpec("work", RATE // 2, RATE, priority=9, children=(
        QueueSpec("work/live", RATE // 4, RATE // 3, discipline="curve", children=(
            replace(VOICE, path="work/live/voice"),
        )),
    )),
))  # fmt: skip


def inside(guarantee: int, start: Nanoseconds, until: Nanoseconds, dice: Random) -> list[tuple[Nanoseconds, int]]:
    """Arrivals (time, size) that keep to one largest frame at once and `guarantee` in the long run, as hard as allowed.

    After some of them it pauses, so that it may burst again.
    """
    arrivals = []
    now, clock = start, start - transmission_time(LONGEST_FRAME, guarantee)  # the bucket is full
    while now < until:
        size = dice.choice([64, 200, 1000, LONGEST_FRAME])
        clock = max(clock, now - transmission_time(LONGEST_FRAME, guarantee)) + -(-size * BYTE_TIME // guarantee)
        now = max(now, clock)
        if now < until:
            arrivals.append((now, size))
        if dice.random() < 0.2:
            now += dice.randrange(300) * MILLISECOND
    return arrivals


@pytest.mark.thorough
@settings(max_examples=drawings(150))
@given(trees(RATE), st.integers(0, 2**32))
@example(NESTED, 1)
def test_a_packet_inside_its_guarantee_waits_no_longer_than_its_delay_and_one_largest_packet(
    spec: QueueSpec, seed: int
) -> None:
    dice = Random(seed)
    promised = {leaf.path: leaf for leaf in promises(spec) if leaf.leaf.delay}
    assume(promised)
    bench = Bench(spec)
    floods, arrivals = [], []
    for index, leaf in enumerate(spec.leaves()):
        who = conversation(index + 1)
        if leaf.path in promised:
            start = dice.randrange(200) * MILLISECOND
            arrivals += [(*one, index, who) for one in inside(leaf.guarantee, start, 2 * SECOND, dice)]
        else:
            floods.append(who)
    refill = bench.keep_full(floods, LONGEST_FRAME, deep=3)
    for now, size, _, who in sorted(arrivals, key=lambda arrival: arrival[:3]):
        bench.run(now, refill)
        bench.offer(who, size, now)
    bench.run(3 * SECOND, refill)
    left = [(now, packet) for now, packet in bench.sent if packet.token is not None]
    assert len(left) == len(arrivals)
    for now, packet in left:
        delay = promised[packet.flow_path.leaf.path].leaf.delay
        assert now - packet.token <= delay + transmission_time(LONGEST_FRAME, RATE) + 1000, packet.flow_path.leaf.path


def test_a_deadline_curve_is_the_lowest_of_those_begun() -> None:
    # 1518 bytes within 10 ms, then 100 kbit/s: 64 bytes are due after 10 ms x 64 / 1518, then at 5.12 ms a packet.
    promise = Promise(100_000, 10 * MILLISECOND, LONGEST_FRAME)
    promise.begin(SECOND)
    assert promise.eligible == SECOND
    assert abs(promise.deadline(64) - (SECOND + 10 * MILLISECOND * 64 // 1518)) <= 2
    assert abs(promise.deadline(1518) - (SECOND + 10 * MILLISECOND)) <= 2
    promise.charge(1518, SECOND)
    assert abs(promise.deadline(125) - (SECOND + 20 * MILLISECOND)) <= 2
    # Busy again 50 ms later, while the first curve is still below: only 100 kbit/s are left until it is used up.
    promise.begin(SECOND + 50 * MILLISECOND)
    assert abs(promise.deadline(1518) - (SECOND + 10 * MILLISECOND + transmission_time(1518, 100_000))) <= 2
    # After a pause as long as the burst takes at the guarantee, it has the whole burst again.
    promise.charge(1518, SECOND + 60 * MILLISECOND)
    promise.begin(3 * SECOND)
    assert abs(promise.deadline(1518) - (3 * SECOND + 10 * MILLISECOND)) <= 2


def test_what_others_left_is_not_held_against_a_promise() -> None:
    bench = Bench(QueueSpec("", RATE, RATE, discipline="curve", children=(
        replace(VOICE, weight=0.01), QueueSpec("bulk", 0, RATE)
    )))  # fmt: skip
    voice, bulk = (bench.keep_full([conversation(port)], 500) for port in (1, 2))
    bench.run(5 * SECOND, voice)  # alone on the line, far beyond its guarantee
    before = len(bench.sent)
    bench.run(10 * SECOND, lambda: (voice(), bulk()))
    had = sum(packet.size * 8 for _, packet in bench.sent[before:] if packet.flow_path.leaf.path == "voice") / 5
    assert abs(had - 100_000) <= 1000 + 2 * 500 * 8 / 5
