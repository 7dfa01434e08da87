"""Lines: how a rate changes over time, and a line that is not shaped: one deep first-in-first-out buffer, and a delay.

This is the modem and the provider as they are without us: the lab and the rig put it at the end of the wire. A packet
that does not fit into the buffer is dropped at its tail.
"""

from bisect import bisect_right
from collections import deque
from collections.abc import Callable
from itertools import pairwise
from random import Random
from typing import Final

from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.flow_path import QueueingDiscipline
from wily_sluice.engine.queueing.service_curve import sending_time
from wily_sluice.units import BYTE_TIME, MILLISECOND, Nanoseconds, Rate, Size


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


SLOT: Final[Nanoseconds] = 10 * MILLISECOND  # a radio line assigns airtime for about so long


class Jitter:
    """Additional delay of packets, as on radio lines: exponentially distributed with this `mean` in ns, drawn again for
    each SLOT. Packets stay in order, so a late packet delays the next ones.
    """

    __slots__ = ("_extra", "_last", "_mean", "_random", "_slot")

    def __init__(self, mean: Nanoseconds, seed: str) -> None:
        self._mean = mean
        self._random = Random(seed)
        self._slot: Nanoseconds = -1
        self._extra: Nanoseconds = 0
        self._last: Nanoseconds = 0

    def delayed(self, arrival: Nanoseconds) -> Nanoseconds:
        """When a packet arrives that would arrive at this time without jitter. Times must not decrease."""
        if self._mean == 0:
            return arrival
        slot = arrival // SLOT
        if slot != self._slot:
            self._slot = slot
            self._extra = round(self._random.expovariate(1.0 / self._mean))
        self._last = max(self._last, arrival + self._extra)
        return self._last


def steady(rate: Rate) -> RateSchedule:
    """The course of a rate that never changes."""
    return RateSchedule(((0, rate),))


class Line(QueueingDiscipline):
    """`rate` in bit/s, `delay` one way in ns, `buffer` in bytes beyond the packet on the wire; `jitter` comes on top of
    the delay.
    """

    __slots__ = ("_drop", "_under_way", "buffer", "carried", "delay", "drops", "free_at", "jitter", "rate")

    def __init__(
        self,
        rate: Rate,
        delay: Nanoseconds,
        buffer: Size,
        drop: Callable[[Packet], None],
        jitter: Jitter | None = None,
    ) -> None:
        if rate < 1 or delay < 0 or buffer < 0:
            raise ValueError(f"no such line: rate {rate} bit/s, delay {delay} ns, buffer {buffer} bytes")
        self.rate = rate
        self.delay = delay
        self.jitter = Jitter(0, "") if jitter is None else jitter
        self.buffer = buffer
        self.carried: Size = 0  # bytes taken in
        self.drops = 0
        self.free_at: Nanoseconds = 0  # when the last packet taken in will have left the buffer
        self._drop = drop
        self._under_way: deque[tuple[Nanoseconds, Packet]] = deque()

    def transmit(self, size: Size, now: Nanoseconds) -> Nanoseconds | None:
        """When a packet of `size` bytes that arrives now reaches the far end; None if the buffer is full."""
        free_at = self.free_at
        if free_at <= now:
            free_at = now
        elif (free_at - now) * self.rate > (self.buffer - size) * BYTE_TIME:
            self.drops += 1
            return None
        self.carried += size
        self.free_at = free_at + sending_time(size, self.rate)
        return self.jitter.delayed(self.free_at + self.delay)

    def waiting(self, now: Nanoseconds) -> float:
        """Bytes that were taken in and have not left yet."""
        return max(0, self.free_at - now) * self.rate / BYTE_TIME

    def offer(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in."""
        arrival = self.transmit(packet.size, now)
        if arrival is None:
            self._drop(packet)
        else:
            self._under_way.append((arrival, packet))

    def release(self, now: Nanoseconds) -> Packet | None:
        """The packet that has reached the far end by now, if there is one."""
        if self._under_way and self._under_way[0][0] <= now:
            return self._under_way.popleft()[1]
        return None

    def next_release(self, now: Nanoseconds) -> Nanoseconds | None:
        """When the next packet reaches the far end; never before `now`."""
        return max(now, self._under_way[0][0]) if self._under_way else None


class VaryingLine(Line):
    """A line whose rate changes over time; `rate` is the highest, which the buffer size may be based on."""

    __slots__ = ("course",)

    def __init__(
        self,
        course: RateSchedule,
        delay: Nanoseconds,
        buffer: Size,
        drop: Callable[[Packet], None],
        jitter: Jitter | None = None,
    ) -> None:
        super().__init__(course.highest, delay, buffer, drop, jitter)
        self.course = course

    def transmit(self, size: Size, now: Nanoseconds) -> Nanoseconds | None:
        """When a packet of `size` bytes that arrives now reaches the far end; None if the buffer is full."""
        begin = max(self.free_at, now)
        if begin > now and self.waiting(now) > self.buffer - size:
            self.drops += 1
            return None
        self.carried += size
        self.free_at = self.course.end(begin, size)
        return self.jitter.delayed(self.free_at + self.delay)

    def waiting(self, now: Nanoseconds) -> float:
        """Bytes that were taken in and have not left yet."""
        return max(0.0, self.course.bits(self.free_at) - self.course.bits(now)) / 8 if self.free_at > now else 0.0
