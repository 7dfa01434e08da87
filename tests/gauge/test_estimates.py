"""What measurements are taken to say, against lines whose figures are known."""

import numpy as np
import pytest

from wily_sluice.gauge.advice import advice
from wily_sluice.gauge.delays import Answered, delays_within
from wily_sluice.gauge.estimates import Estimate, Sized, buffer_of, estimate, fits, round_trips_a_minute
from wily_sluice.gauge.line import Measured
from wily_sluice.gauge.stamp import Reflected
from wily_sluice.plan.file.framings import parse_stack, stacks
from wily_sluice.units import MILLISECOND, SECOND

ALL = [(one.words, one.framing) for one in stacks(1)]


def course(rates: list[float], segment: int) -> list[tuple[int, int, int]]:
    """Segments by moments, a sample every 50 ms, at rates of data in bit/s that each last half a second."""
    found, total = [(7 * SECOND, 0, 0)], 0.0
    for rate in rates:
        for _ in range(10):
            total += rate * 0.05 / 8 / segment
            found.append((found[-1][0] + 50 * MILLISECOND, round(total), round(total * segment)))
    return found


def test_a_rate_leaves_the_ramp_out_and_says_how_sure_it_is() -> None:
    steady = estimate(course([2e6, 5e6, *[10e6] * 16], 1448), 1448)
    assert steady is not None and steady.ramp == SECOND
    assert steady.rate == pytest.approx(10e6, rel=0.003) and steady.high - steady.low < 0.01 * steady.rate
    draw = np.random.default_rng(5)
    missed = 0
    for _ in range(100):
        shaky = estimate(course([10e6 * draw.normal(1, 0.1) for _ in range(20)], 1448), 1448)
        assert shaky is not None
        missed += not shaky.low <= 10e6 <= shaky.high
    assert missed <= 15  # of 100, where 5 are to be expected, and 8 of so few steps
    assert estimate(course([1e6], 1448)[:5], 1448) is None


@pytest.mark.parametrize(
    "words", ["ethernet", "pppoe over ptm", "ip over atm llc", "pppoa over atm vc", "ethernet over vlan over ptm"]
)
def test_framings_are_told_apart_by_the_rates_of_small_packets(words: str) -> None:
    framing, line = parse_stack(words).framing, 10e6
    sizes = []
    for segment in (1448, 524, 204):
        beside = ((140, 50.0), (150, 8.0))
        others = sum(8 * framing.cost(size) * rate for size, rate in beside)
        sizes.append(Sized(segment, 52, (line - others) * segment / framing.cost(segment + 52), beside))
    found = fits(sizes, ALL)
    same = [fit for fit in found if parse_stack(fit.words).framing == framing]
    assert same and same[0].spread == pytest.approx(found[0].spread, abs=1e-6)
    assert same[0].rate == pytest.approx(line, rel=1e-6)
    # A rate that is 2% off, and known to be that uncertain, rules the right framing out no more.
    off = [sizes[0], *(one._replace(data=one.data * 0.98, doubt=0.02) for one in sizes[1:])]
    assert any(parse_stack(fit.words).framing == framing for fit in fits(off, ALL))


def test_advice_is_worked_out_from_one_measurement_and_from_the_worst_tenth_of_many() -> None:
    def measured(rate: float, shake: float = 0.0) -> Measured:
        one = Measured(0, "far.example")
        steps = tuple(rate * (1 + shake * side) for side in (-1, 1) * 10)
        for way in one.ways.values():
            way.data = Estimate(rate, rate, rate, 0, steps)
        return one

    single = advice([measured(47.69e6)])
    assert single is not None
    # 1,518 bytes on the line for 1,448 of data: 49.995 Mbit/s, three figures of it.
    assert single.rates == {"up": 49_900_000, "down": 49_900_000} and single.headroom == 0.05
    shaky = advice([measured(40e6, 0.12)])
    assert shaky is not None and shaky.headroom == pytest.approx(0.12, abs=0.011)
    many = advice([measured(rate * 1e6) for rate in range(20, 42, 2)])
    assert many is not None and many.rates["down"] == 23_000_000  # 22 Mbit/s of data × 1518 / 1448
    assert advice([Measured(0, "far.example")]) is None


def test_losses_in_the_midst_of_a_measurement_are_told_by_direction() -> None:
    # Of 10 packets, 100 to 109, two did not come to the far end, and one did not come back.
    came = [number for number in range(100, 110) if number not in (103, 104)]
    numbered = {number: 40 + index for index, number in enumerate(came)}
    answers = [
        Answered(Reflected(numbered[number], 2, 1, number, 0, 64), 30 * MILLISECOND) for number in came if number != 107
    ]
    found = delays_within(answers)
    assert found is not None and (found.sent, found.lost_up, found.lost_down) == (10, 2, 1)


def test_a_buffer_is_what_nearly_the_longest_wait_says_and_responsiveness_leaves_out_the_slowest() -> None:
    waits = [*range(0, 200 * MILLISECOND, MILLISECOND), *[200 * MILLISECOND] * 20]
    assert buffer_of(waits) == 200 * MILLISECOND and buffer_of([1, 2]) is None
    assert round_trips_a_minute([50 * MILLISECOND] * 95 + [5 * SECOND] * 5) == 1200
