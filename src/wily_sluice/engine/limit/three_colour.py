"""Meters that colour packets: inside the rate, in between, and above.

Sources: RFC 2697 (single rate: committed and excess burst) and RFC 2698 (two rates: committed and peak), both in their
colour-blind mode. Names follow them: Tc and Te, or Tc and Tp, are the tokens of two buckets.

Units: rates in bit/s, bursts and sizes in bytes, times in ns. Tokens are kept in bit/s x ns, so nothing is rounded.
"""

from typing import Final

from wily_sluice.units import BYTE_TIME, Nanoseconds, Rate, Size

GREEN: Final = 0
YELLOW: Final = 1
RED: Final = 2


class ThreeColour:
    """One meter. With a `peak` it has two rates, and `second_burst` is the peak's; else it is the excess burst.

    Full at the beginning. Raises ValueError for rates and bursts that the RFCs exclude.
    """

    __slots__ = ("_at", "_peak", "_rate", "_second", "_second_burst", "_second_rate", "_tc", "_tc_burst")

    def __init__(self, rate: Rate, burst: Size, second_burst: Size, peak: Rate | None = None) -> None:
        if rate < 1 or burst < 0 or second_burst < 0 or not (burst or second_burst):
            raise ValueError(f"no meter has a rate of {rate} bit/s and bursts of {burst} and {second_burst} bytes")
        if peak is not None and (peak < rate or not (burst and second_burst)):
            raise ValueError(f"a peak of {peak} bit/s is below the rate of {rate} bit/s, or a burst is zero")
        self._rate = rate
        self._second_rate = peak or 0
        self._tc_burst = self._tc = burst * BYTE_TIME
        self._second_burst = self._second = second_burst * BYTE_TIME
        self._at: Nanoseconds | None = None
        self._peak = self._second_rate

    def go_at(self, rate: Rate) -> None:
        """Measure by another rate from now on; a peak below it is that rate."""
        self._rate = rate
        if self._peak:
            self._second_rate = self._peak if self._peak > rate else rate

    def colour(self, size: Size, now: Nanoseconds) -> int:
        """The colour of a packet that comes now; its tokens are taken."""
        since = now - self._at if self._at is not None else 0
        self._at = now
        cost = size * BYTE_TIME
        if self._second_rate:
            return self._of_two_rates(cost, since)
        self._tc += since * self._rate
        if self._tc > self._tc_burst:
            # RFC 2697 §3: what the first bucket cannot hold goes to the second.
            self._second = min(self._second_burst, self._second + self._tc - self._tc_burst)
            self._tc = self._tc_burst
        if self._tc >= cost:
            self._tc -= cost
            return GREEN
        if self._second >= cost:
            self._second -= cost
            return YELLOW
        return RED

    def _of_two_rates(self, cost: int, since: Nanoseconds) -> int:
        self._tc = min(self._tc_burst, self._tc + since * self._rate)
        self._second = min(self._second_burst, self._second + since * self._second_rate)
        if self._second < cost:
            return RED
        self._second -= cost
        if self._tc < cost:
            return YELLOW
        self._tc -= cost
        return GREEN
