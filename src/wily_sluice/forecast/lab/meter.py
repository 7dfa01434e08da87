"""What an application measures: bytes carried, and each packet's delay.

Jitter is the interarrival jitter of RFC 3550 §6.4.1, averaged over the packets counted.
"""

from array import array
from dataclasses import dataclass

import numpy as np

from wily_sluice.units import SECOND, Nanoseconds, Size

MOST_KEPT = 1000  # delays of one application


@dataclass(frozen=True, slots=True)
class Acknowledged:
    """The acknowledgements of a transfer: their mean delay in ns, None where none arrived; loss as a fraction of 1."""

    delay: float | None
    loss: float

    def __reduce__(self) -> tuple[type["Acknowledged"], tuple[float | None, float]]:
        """For pickling, which the default cannot do of a frozen compiled class."""
        return (Acknowledged, (self.delay, self.loss))


@dataclass(frozen=True, slots=True)
class Measured:
    """One application in one direction: goodput in bit/s, delays and jitter in ns, loss as a fraction of 1.

    Delays are None if no packet arrived. `delays` is an even sample, in the order of arrival; `rates` are the goodput
    in STEPS equal parts of the time. `acks` is None unless it is a transfer.
    """

    goodput: float
    p50: float | None
    p95: float | None
    p99: float | None
    jitter: float | None
    loss: float
    sent: int
    delays: tuple[Nanoseconds, ...] = ()
    acks: Acknowledged | None = None
    rates: tuple[float, ...] = ()

    def __reduce__(self) -> tuple[type["Measured"], tuple[object, ...]]:
        """For pickling, as above."""
        delays = (self.p50, self.p95, self.p99, self.jitter)
        return (Measured, (self.goodput, *delays, self.loss, self.sent, self.delays, self.acks, self.rates))


STEPS = 40
NOTHING = Measured(goodput=0.0, p50=None, p95=None, p99=None, jitter=None, loss=0.0, sent=0)


class Silence:
    """The longest time between `begin` and `end` without arrivals."""

    __slots__ = ("_end", "_last", "_longest")

    def __init__(self, begin: Nanoseconds, end: Nanoseconds) -> None:
        self._last = begin
        self._end = end
        self._longest: Nanoseconds = 0

    def heard(self, now: Nanoseconds) -> None:
        """Something arrives."""
        if self._last < now < self._end:
            self._longest = max(self._longest, now - self._last)
            self._last = now

    @property
    def longest(self) -> Nanoseconds:
        """The longest of all, with that at the end."""
        return max(self._longest, self._end - self._last)


class Meter:
    """Counts packets sent from `begin` until `end`, and whether and when they arrive; and the data that reaches its
    application in that time. Packets sent earlier or later still load the line. A given `silence` belongs to an
    application on several lines.
    """

    __slots__ = (
        "_acks", "_acks_arrived", "_acks_delay", "_arrivals", "_begin", "_delays", "_end", "_jitter", "_jitter_sum",
        "_last", "_silence", "_steps", "bytes", "sent",
    )  # fmt: skip

    def __init__(self, begin: Nanoseconds, end: Nanoseconds, silence: Silence | None = None) -> None:
        self._begin = begin
        self._end = end
        self._silence = silence
        self._delays = array("q")
        self._last: Nanoseconds | None = None
        self._jitter = 0.0
        self._jitter_sum = 0.0
        self._arrivals = 0
        self._acks = 0
        self._acks_arrived = 0
        self._acks_delay: Nanoseconds = 0
        self._steps: list[Size] = [0] * STEPS
        self.bytes: Size = 0
        self.sent = 0

    def counts(self, now: Nanoseconds) -> bool:
        """Whether what is sent now is counted."""
        return self._begin <= now < self._end

    def left(self, now: Nanoseconds) -> None:
        """Note that a packet is sent."""
        if self._begin <= now < self._end:
            self.sent += 1

    def arrived(self, sent: Nanoseconds, now: Nanoseconds) -> None:
        """Note a packet's arrival."""
        if self._silence is not None:
            self._silence.heard(now)
        if self._begin <= sent < self._end:
            self._arrivals += 1
            delay = now - sent
            if self._last is not None:
                self._jitter += (abs(delay - self._last) - self._jitter) / 16
                self._jitter_sum += self._jitter
            self._last = delay
            self._delays.append(delay)

    def acknowledged(self, now: Nanoseconds) -> None:
        """Note that an acknowledgement is sent."""
        if self._begin <= now < self._end:
            self._acks += 1

    def heard_of(self, sent: Nanoseconds, now: Nanoseconds) -> None:
        """Note that an acknowledgement arrives."""
        if self._begin <= sent < self._end:
            self._acks_arrived += 1
            self._acks_delay += now - sent

    def carried(self, size: Size, now: Nanoseconds) -> None:
        """Note data that has reached its application."""
        if self._begin <= now < self._end:
            self.bytes += size
            self._steps[(now - self._begin) * STEPS // (self._end - self._begin)] += size

    def result(self) -> Measured:
        """The result, once no packet is in flight."""
        delays = np.frombuffer(self._delays, dtype=np.int64)
        lasts = self._end - self._begin
        p50, p95, p99 = np.percentile(delays, (50, 95, 99)).tolist() if len(delays) else (None, None, None)
        return Measured(
            goodput=self.bytes * 8 * SECOND / lasts,
            p50=p50,
            p95=p95,
            p99=p99,
            jitter=self._jitter_sum / (len(delays) - 1) if len(delays) > 1 else None,
            loss=(self.sent - self._arrivals) / self.sent if self.sent else 0.0,
            sent=self.sent,
            delays=tuple(delays[:: len(delays) // MOST_KEPT + 1].tolist()),
            acks=self._acks_result(),
            rates=tuple(size * 8 * SECOND * STEPS / lasts for size in self._steps) if self.bytes else (),
        )

    def _acks_result(self) -> Acknowledged | None:
        if not self._acks:
            return None
        arrived = self._acks_arrived
        return Acknowledged(self._acks_delay / arrived if arrived else None, (self._acks - arrived) / self._acks)
