"""How the rate of a line changes over time, known beforehand: for lines that are simulated."""

from bisect import bisect_right
from itertools import pairwise

from wily_sluice.units import Nanoseconds, Rate, Size


class RateSchedule:
    """`points` are times, starting at 0, each with the rate in bit/s from then on; the last rate continues for ever.

    Raises ValueError for times that do not increase, or a rate below 1 bit/s.
    """

    __slots__ = ("_bits", "_rates", "_times")

    def __init__(self, points: tuple[tuple[Nanoseconds, Rate], ...]) -> None:
        times = [at for at, _ in points]
        if not points or times[0] != 0 or any(later <= at for at, later in pairwise(times)):
            raise ValueError("the times of a course begin at 0 and grow")
        if any(rate < 1 for _, rate in points):
            raise ValueError("a rate is at least 1 bit/s")
        self._times = times
        self._rates = [rate for _, rate in points]
        self._bits = [0.0]  # carried until each time, by a line that is never idle
        for index in range(1, len(times)):
            self._bits.append(self._bits[-1] + self._rates[index - 1] * (times[index] - times[index - 1]) / 1e9)

    def __reduce__(self) -> tuple[type["RateSchedule"], tuple[tuple[tuple[Nanoseconds, Rate], ...]]]:
        """For pickling, which the default cannot do of a compiled class."""
        return (RateSchedule, (self.points,))

    @property
    def points(self) -> tuple[tuple[Nanoseconds, Rate], ...]:
        """As it was made of."""
        return tuple(zip(self._times, self._rates, strict=True))

    @property
    def steady(self) -> bool:
        """Whether it never changes."""
        return len(self._rates) == 1

    @property
    def highest(self) -> Rate:
        """The highest rate of all."""
        return max(self._rates)

    def rate(self, at: Nanoseconds) -> Rate:
        """The rate at a time."""
        return self._rates[max(0, bisect_right(self._times, at) - 1)]

    def bits(self, at: Nanoseconds) -> float:
        """Bits that a line without idle time has carried by a time."""
        index = max(0, bisect_right(self._times, at) - 1)
        return self._bits[index] + self._rates[index] * (at - self._times[index]) / 1e9

    def end(self, begin: Nanoseconds, size: Size) -> Nanoseconds:
        """When this many bytes are sent if the first is sent at `begin`."""
        bits = self.bits(begin) + 8 * size
        index = max(0, bisect_right(self._bits, bits) - 1)
        return self._times[index] + round((bits - self._bits[index]) * 1e9 / self._rates[index])


def steady(rate: Rate) -> RateSchedule:
    """The course of a rate that never changes."""
    return RateSchedule(((0, rate),))
