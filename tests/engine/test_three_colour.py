import pytest

from wily_sluice.engine.limit.meters import GREEN, RED, YELLOW, ThreeColour
from wily_sluice.units import MILLISECOND, SECOND


def colours(meter: ThreeColour, packets: list[tuple[int, int]]) -> list[int]:
    """Of packets (time in ms, bytes)."""
    return [meter.colour(size, at * MILLISECOND) for at, size in packets]


def test_single_rate_is_rfc_2697() -> None:
    # 8 kbit/s is 1 byte a millisecond. Committed burst 1000, excess burst 500, both full at the beginning.
    meter = ThreeColour(8000, 1000, 500)
    assert colours(meter, [(0, 600), (0, 400), (0, 300), (0, 300), (0, 200), (0, 1)]) == [
        GREEN,  # Tc 1000 -> 400
        GREEN,  # Tc 400 -> 0
        YELLOW,  # Te 500 -> 200
        RED,  # 300 are in neither; nothing is taken
        YELLOW,  # Te 200 -> 0
        RED,
    ]
    # After 1200 ms Tc has its 1000, and the 200 that it cannot hold have gone to Te.
    assert colours(meter, [(1200, 1000), (1200, 200), (1200, 1)]) == [GREEN, YELLOW, RED]


def test_two_rates_are_rfc_2698() -> None:
    # Committed 8 kbit/s with 500 bytes, peak 16 kbit/s with 800 bytes.
    meter = ThreeColour(8000, 500, 800, 16_000)
    assert colours(meter, [(0, 400), (0, 300), (0, 200), (0, 100)]) == [
        GREEN,  # Tp 800 -> 400, Tc 500 -> 100
        YELLOW,  # Tp 400 -> 100; Tc stays 100
        RED,  # 200 are above what the peak has
        GREEN,  # Tp 100 -> 0, Tc 100 -> 0
    ]
    # 100 ms later the peak has 200 and the committed rate 100.
    assert colours(meter, [(100, 150), (100, 50), (100, 1)]) == [YELLOW, GREEN, RED]


def test_in_the_long_run_green_is_the_rate_and_yellow_up_to_the_peak() -> None:
    meter = ThreeColour(1_000_000, 20_000, 30_000, 2_000_000)
    counts = [0, 0, 0]
    for number in range(20_000):  # 3 Mbit/s for 20 s: a packet of 1000 bytes every 2.666 ms
        counts[meter.colour(1000, number * SECOND // 375)] += 8000
    lasted = 20_000 / 375
    assert counts[GREEN] / lasted == pytest.approx(1_000_000, rel=0.01)
    assert (counts[GREEN] + counts[YELLOW]) / lasted == pytest.approx(2_000_000, rel=0.01)


@pytest.mark.parametrize(
    ("rate", "burst", "second", "peak"), [(0, 1, 1, None), (8, 0, 0, None), (8, 1, 1, 7), (8, 1, 0, 9)]
)
def test_what_the_rfcs_exclude_is_refused(rate: int, burst: int, second: int, peak: int | None) -> None:
    with pytest.raises(ValueError, match=r"meter|peak"):
        ThreeColour(rate, burst, second, peak)
