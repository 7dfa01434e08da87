"""TCP of the lab against the formulas of its RFCs."""

from collections.abc import Callable
from math import sqrt
from random import Random

import pytest

from tests.engine.driving import conversation
from wily_sluice.engine.packet import ETHERNET, Packet
from wily_sluice.forecast.lab.kinds.congestion import Cubic, HyStart, NewReno
from wily_sluice.forecast.lab.kinds.source import Course
from wily_sluice.forecast.lab.kinds.tcp import RECEIVE_WINDOW, SEGMENT, Transfer
from wily_sluice.forecast.lab.meter import Meter
from wily_sluice.forecast.lab.path import Events, deliver
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

RTT = 50 * MILLISECOND


class Lossy:
    """A path of a fixed delay without end of room, which loses what `loses` says."""

    def __init__(self, events: Events, delay: Nanoseconds, loses: Callable[[int], bool] = lambda _: False) -> None:
        self._events, self._delay, self._loses, self.sent = events, delay, loses, 0

    def send(self, packet: Packet) -> None:
        self.sent += 1
        if not self._loses(self.sent):
            self._events.at(self._events.now + self._delay, deliver, packet)


def transfer(
    seconds: int, loses: Callable[[int], bool], control: str, rtt: Nanoseconds = RTT
) -> tuple[Meter, Transfer]:
    events = Events()
    end = seconds * SECOND
    meter = Meter(end // 5, end)
    there, back = Lossy(events, rtt // 2, loses), Lossy(events, rtt // 2)
    made = Transfer(Course(events, conversation(1), meter, end, ETHERNET, there, back, Random(1)), control)
    events.at(0, made.begin)
    events.run(end)
    return meter, made


def test_the_window_of_cubic_grows_by_the_cube_of_the_time() -> None:
    # After a loss at W_max = 1000 the window is 700; with C = 0.4, K = cbrt(300 / 0.4) = 9.09 s (RFC 9438 §4.2).
    cubic = Cubic(float(RECEIVE_WINDOW))
    cubic.cwnd, cubic.ssthresh = 1000.0, 10.0
    cubic.lost(1000, 0)
    cubic.cwnd = cubic.ssthresh
    assert cubic.cwnd == 700
    k = (300 / 0.4) ** (1 / 3)
    for round_ in range(300):
        now = round_ * RTT
        for _ in range(int(cubic.cwnd) // 2):
            cubic.acked(2, now, RTT, 0, 0)
        expected = 0.4 * ((now + RTT) / SECOND - k) ** 3 + 1000
        if expected < 1.4 * 1000:
            assert cubic.cwnd == pytest.approx(expected, rel=0.01), round_


def test_after_two_losses_in_a_row_cubic_makes_room_for_others() -> None:
    cubic = Cubic(float(RECEIVE_WINDOW))
    cubic.cwnd, cubic.ssthresh = 100.0, 10.0
    cubic.lost(100, 0)
    cubic.cwnd = 80.0
    cubic.lost(80, SECOND)  # below the last W_max of 100, so the next is 80 x (1 + 0.7) / 2 (RFC 9438 §4.7)
    cubic.cwnd = cubic.ssthresh
    assert cubic.ssthresh == pytest.approx(56)
    cubic.acked(1, 2 * SECOND, RTT, 0, 0)
    assert cubic.window(((68 - 56) / 0.4) ** (1 / 3)) == pytest.approx(68)


@pytest.mark.parametrize("loss", [pytest.param(0.002, marks=pytest.mark.slow), 0.01])
def test_the_mean_rate_of_newreno_follows_the_law_of_the_square_root(loss: float) -> None:
    # MSS / RTT x sqrt(3 / (2 p)), with each byte that is acknowledged counted (Mathis et al., 1997; RFC 5348 §3.1).
    drawn = Random(3)
    meter, _ = transfer(600, lambda _: drawn.random() < loss, "newreno")
    expected = SEGMENT * 8 * SECOND / RTT * sqrt(3 / (2 * loss))
    assert meter.result().goodput == pytest.approx(expected, rel=0.15)


def test_slow_start_ends_before_the_line_overflows_when_round_trips_grow() -> None:
    start, una = HyStart(), 0
    times = [RTT] * 3 + [RTT + 8 * MILLISECOND] * 9
    rounds = 0
    for rtt in times:
        rounds += 1
        una += 20
        if any(start.is_over(rtt, una + n, una + 20) for n in range(1, 20)):
            break
    # The fourth round is longer by more than an eighth: five more of slower growth, and it is over (RFC 9406 §4.2).
    assert rounds == 9


def test_a_lost_tail_is_probed_for_before_the_timer_runs_out() -> None:
    lost = {9, 10}
    meter, sender = transfer(2, lambda number: number in lost, "cubic")
    events = meter.result()
    assert events.goodput > 0
    assert sender.control.cwnd > 2  # no time-out, which would have begun anew with one segment


def test_one_loss_costs_cubic_three_tenths_and_newreno_half_of_its_window() -> None:
    for control, kept in (("cubic", Cubic.BETA), ("newreno", 0.5)):
        windows: list[float] = []

        def loses(number: int, windows: list[float] = windows) -> bool:
            return number == 900

        _, sender = transfer(3, loses, control)
        made = type(sender.control)(float(RECEIVE_WINDOW))
        made.cwnd = 400.0
        made.lost(400, SECOND)
        assert made.ssthresh == pytest.approx(400 * kept)
        assert isinstance(sender.control, Cubic if control == "cubic" else NewReno)
        assert sender.control.ssthresh < RECEIVE_WINDOW
