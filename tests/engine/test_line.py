from tests.engine.driving import conversation
from wily_sluice.engine.line import Line
from wily_sluice.engine.packet import Packet
from wily_sluice.units import MILLISECOND

WHO = conversation(1)


def test_a_packet_takes_its_own_time_the_queue_before_it_and_the_delay() -> None:
    line = Line(8_000_000, 5 * MILLISECOND, 10_000, lambda _: None)  # 1000 bytes take 1 ms
    assert [line.transmit(1000, 0) for _ in range(3)] == [6 * MILLISECOND, 7 * MILLISECOND, 8 * MILLISECOND]
    assert line.transmit(1000, 20 * MILLISECOND) == 26 * MILLISECOND


def test_a_full_buffer_drops_at_its_tail() -> None:
    dropped: list[Packet] = []
    line = Line(8_000_000, 0, 5000, dropped.append)
    for number in range(10):
        line.offer(Packet(1000, WHO, number), 0)
    # Five stand in the buffer when the clock has not moved: the first of them is the one on the wire.
    out = []
    now = line.next_release(0)
    while now is not None:
        packet = line.release(now)
        assert packet is not None
        out.append(packet.token)
        now = line.next_release(now)
    assert out == [0, 1, 2, 3, 4]
    assert [packet.token for packet in dropped] == [5, 6, 7, 8, 9]
    assert line.drops == 5
