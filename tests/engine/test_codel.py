from math import sqrt

from tests.engine.driving import conversation
from wily_sluice.engine.codel import INTERVAL, TARGET, CodelQueue, control_law
from wily_sluice.engine.packet import Packet
from wily_sluice.units import MILLISECOND, SECOND

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
