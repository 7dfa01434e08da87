from math import sqrt

import pytest

from tests.engine.driving import conversation
from wily_sluice.engine.packet import ECT_0, ECT_1, LONGEST_FRAME, NOT_ECT, Packet
from wily_sluice.engine.queueing.codel import INTERVAL, TARGET, CodelQueue, control_law
from wily_sluice.plan.file.framings import parse_stack
from wily_sluice.units import MILLISECOND, SECOND

MICROSECOND = 1000
WHO = conversation(1)


def test_control_law_is_the_inverse_square_root_of_rfc_8289() -> None:
    for count in (1, 2, 3, 4, 9, 100, 10_000):
        assert abs(control_law(0, count, INTERVAL) - INTERVAL / sqrt(count)) <= INTERVAL / sqrt(count) / 1000


def test_drops_begin_an_interval_after_the_wait_passed_target_and_then_close_up() -> None:
    """A queue fed twice as fast as it is served, so that nothing but drops can shorten its wait."""
    queue, drops, now = CodelQueue(), list[int](), 0
    first_above = None
    for _ in range(2000):
        for _ in range(4):
            queue.enqueue(Packet(1500, WHO), now)
        now += 2 * MILLISECOND
        lost: list[Packet] = []
        packet = queue.dequeue(now, lost.append)
        drops += [now] * len(lost)
        assert packet is not None
        if first_above is None and now - packet.entered >= TARGET:
            first_above = now
    assert first_above is not None
    assert 0 <= drops[0] - (first_above + INTERVAL) <= 2 * MILLISECOND
    # RFC 8289 §5.5: the n-th drop follows its forerunner by interval / sqrt(n); the server looks every 2 ms.
    due = drops[0]
    for count, drop in enumerate(drops[1:40], 1):
        due += INTERVAL / sqrt(count)
        assert abs(drop - due) <= 2 * MILLISECOND + count * 0.001 * INTERVAL


def test_a_queue_that_is_only_bursty_loses_nothing() -> None:
    queue, drops, now = CodelQueue(), [], 0
    for _ in range(50):
        for _ in range(20):
            queue.enqueue(Packet(1500, WHO), now)
        while queue.dequeue(now, drops.append) is not None:
            now += MILLISECOND  # 20 ms to empty, well within the interval
        now += SECOND // 4
    assert not drops


def test_one_packet_alone_is_never_dropped_however_slow_the_queue() -> None:
    queue, drops, now = CodelQueue(), [], 0
    for _ in range(100):
        queue.enqueue(Packet(1500, WHO), now)
        now += SECOND
        assert queue.dequeue(now, drops.append) is not None
    assert not drops


def test_a_packet_that_offers_ecn_is_marked_where_another_would_be_dropped() -> None:
    def fed_too_fast(ecn: int, obey: bool = True) -> tuple[list[int], list[int]]:
        """When packets were dropped, and when marked."""
        queue, drops, marks, now = CodelQueue(ecn=obey), list[int](), list[int](), 0
        for _ in range(300):
            for _ in range(2):
                queue.enqueue(Packet(1500, WHO, None, ecn), now)
            now += 2 * MILLISECOND
            lost: list[Packet] = []
            packet = queue.dequeue(now, lost.append)
            assert packet is not None
            drops += [now] * len(lost)
            marks += [now] * packet.marked
        return drops, marks

    drops, none = fed_too_fast(NOT_ECT)
    assert not none
    for ecn in (ECT_0, ECT_1):
        nothing, marks = fed_too_fast(ecn)
        assert not nothing
        assert marks == drops  # the control law is the same
    assert fed_too_fast(ECT_0, obey=False) == (drops, [])


@pytest.mark.parametrize("cut", [0.5, 0.7])
def test_a_standing_queue_settles_near_the_target(cut: float) -> None:
    """Four senders in congestion avoidance (RFC 5681 §3.1) on 20 Mbit/s, with a round trip of 40 ms.

    Each sends a window a round trip, adds a packet to it each time, and cuts it for a mark, at most once in one: by
    half, or to 0.7 (RFC 9438 §4.6). What stands is what is left at the lowest point of each interval.
    """
    queue, now, step = CodelQueue(), 0, 600 * MICROSECOND  # what a packet takes at 20 Mbit/s
    window, credit, cut_at, wait = [40.0] * 4, [0.0] * 4, [0] * 4, 0
    standing: dict[int, int] = {}
    while now < 30 * SECOND:
        round_trip = 40 * MILLISECOND + wait
        for one in range(4):
            credit[one] += window[one] * step / round_trip
            window[one] += step / round_trip
            while credit[one] >= 1:
                queue.enqueue(Packet(1500, WHO, one, ECT_0), now)
                credit[one] -= 1
        now += step
        packet = queue.dequeue(now, lambda _: None)
        wait = now - packet.entered if packet is not None else 0
        standing[now // INTERVAL] = min(wait, standing.get(now // INTERVAL, wait))
        if packet is not None and packet.marked and now - cut_at[packet.token] > round_trip:
            window[packet.token] = max(2.0, window[packet.token] * cut)
            cut_at[packet.token] = now
    late = sorted(wait for interval, wait in standing.items() if interval * INTERVAL >= 10 * SECOND)
    assert abs(late[len(late) // 2] - TARGET) <= 1.5 * MILLISECOND


def test_the_last_frame_of_a_line_in_cells_is_not_dropped_though_it_is_longer_than_others() -> None:
    """A packet of 1500 bytes takes 1749 in cells; a queue that holds no more than that is not too long (maxpacket)."""
    frame = parse_stack("pppoe over atm llc").framing.cost(1500)
    assert frame > LONGEST_FRAME
    for largest, drops in ((frame, 0), (LONGEST_FRAME, 1)):
        queue, dropped = CodelQueue(largest=largest), list[Packet]()
        for number in range(40):  # two stand there all the time, each for 40 ms
            queue.enqueue(Packet(frame, WHO, number), number * 20 * MILLISECOND)
            if number:
                queue.dequeue((number + 1) * 20 * MILLISECOND, dropped.append)
        assert (len(dropped) > 0) == bool(drops)
