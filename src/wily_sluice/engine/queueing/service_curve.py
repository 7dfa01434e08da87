"""Promises to leaves in time: virtual clocks, service curves, and the leaves that are promised a delay.

Virtual clocks: their advance by packets, and changes of rate.

Caps, guarantees, limiters and lines each have a clock. A packet advances it by its transmission time at their rate. The
clock's lead over now is the excess, in time. When the rate changes, the lead is rescaled to the same bytes at the new
rate. Otherwise a queue held to 1 kbit/s would be blocked for seconds after its release.

Compiled, this uses 64-bit machine integers: sizes are below a megabyte, times below a century.

The promise to a leaf of a `curve` parent: its guarantee, and the longest delay of a packet within it.

Source: the real-time criterion of hierarchical fair service curves (Stoica, Zhang, Ng: A Hierarchical Fair Service
Curve Algorithm for Link-Sharing, Real-Time and Priority Services, 1997; §IV: eligible times and deadlines).

A leaf with a guarantee R, a burst L (one largest frame) and a delay d has a concave curve of two pieces: L bytes within
d, then R. It is the lower of a line with slope L/d and a line with slope R through (d, L). A deadline curve is the
minimum of such curves, one for each time the leaf becomes busy. The minimum of lines with the same slope is such a line
again, so a deadline curve is two lines, each kept as a virtual clock: the time at which it reaches the bytes served
under the promise. The later clock is the eligible time of the next byte. The later clock after the packet at the head
is the deadline.

Only packets sent for the promise advance the clocks; a share of spare capacity does not count against it. While the
promises' lines add up to less than the line's rate, no deadline is missed by more than the packet on the wire (§V). A
packet of a queue that sends at most L at once, and R on average, is therefore delayed by at most d and that packet.
"""

from typing import Final

from mypy_extensions import i64

from wily_sluice.units import BYTE_TIME, SECOND, Nanoseconds, Rate, Size, transmission_time


def sending_time(size: i64, rate: i64) -> i64:
    """How long `size` bytes take at `rate` bit/s, rounded down to the nanosecond."""
    return size * BYTE_TIME // rate


def at_rate(clock: Nanoseconds, now: Nanoseconds, before: Rate, after: Rate) -> Nanoseconds:
    """A clock that ran at rate `before`, converted to rate `after`; 0 means no rate. One behind `now` is left alone."""
    if clock <= now:
        return clock
    return now + (clock - now) * before // after if after else now


BUSY_CREDIT: Final[Nanoseconds] = SECOND  # of a stall that kept a busy leaf from what it was promised


def first_slope(guarantee: Rate, delay: Nanoseconds | None, burst: Size) -> Rate:
    """The slope of a curve's first piece in bit/s; the guarantee, where that is enough to keep the delay."""
    return guarantee if delay is None else max(guarantee, -(-burst * BYTE_TIME // delay))


class Promise:
    """A leaf's deadline curve. `guarantee` is above 0, in bit/s; without a delay the curve is one line."""

    __slots__ = ("_burst_clock", "_credit", "_lasting_clock", "first", "guarantee")

    def __init__(self, guarantee: Rate, delay: Nanoseconds | None, burst: Size) -> None:
        self.guarantee = guarantee
        self.first = first_slope(guarantee, delay, burst)
        # How long before the leaf became busy the line of slope R begins.
        self._credit = 0 if delay is None else max(0, transmission_time(burst, guarantee) - delay)
        self._burst_clock: Nanoseconds = 0
        self._lasting_clock: Nanoseconds = -self._credit

    def is_like(self, other: "Promise") -> bool:
        """Whether it promises the same."""
        return (self.guarantee, self.first, self._credit) == (other.guarantee, other.first, other._credit)

    def begin(self, now: Nanoseconds) -> None:
        """The leaf has become busy."""
        if self._burst_clock < now:
            self._burst_clock = now
        if self._lasting_clock < now - self._credit:
            self._lasting_clock = now - self._credit

    @property
    def eligible(self) -> Nanoseconds:
        """From when on the next packet may be sent for the promise."""
        burst, lasting = self._burst_clock, self._lasting_clock
        return burst if burst > lasting else lasting

    def deadline(self, size: Size) -> Nanoseconds:
        """By when a packet of this size must have been sent, if it is the next."""
        burst = self._burst_clock + sending_time(size, self.first)
        lasting = self._lasting_clock + sending_time(size, self.guarantee)
        return burst if burst > lasting else lasting

    def charge(self, size: Size, now: Nanoseconds) -> None:
        """Count a packet that was sent for the promise."""
        behind = now - BUSY_CREDIT
        self._burst_clock = max(self._burst_clock, behind) + sending_time(size, self.first)
        self._lasting_clock = max(self._lasting_clock, behind - self._credit) + sending_time(size, self.guarantee)
