"""A line that is not shaped: one deep first-in-first-out buffer, a rate, and a delay.

This is the modem and the provider as they are without us: the lab and the rig put it at the end of the wire. A packet
that does not fit into the buffer is dropped at its tail.
"""

from collections import deque
from collections.abc import Callable

from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.discipline import QueueingDiscipline
from wily_sluice.engine.queueing.pace import sending_time
from wily_sluice.engine.rate_schedule import RateSchedule
from wily_sluice.units import BYTE_TIME, Nanoseconds, Rate, Size


class Line(QueueingDiscipline):
    """`rate` in bit/s, `delay` one way in ns, `buffer` in bytes beyond the packet on the wire."""

    __slots__ = ("_drop", "_under_way", "buffer", "carried", "delay", "drops", "free_at", "rate")

    def __init__(self, rate: Rate, delay: Nanoseconds, buffer: Size, drop: Callable[[Packet], None]) -> None:
        if rate < 1 or delay < 0 or buffer < 0:
            raise ValueError(f"no such line: rate {rate} bit/s, delay {delay} ns, buffer {buffer} bytes")
        self.rate = rate
        self.delay = delay
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
        return self.free_at + self.delay

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

    def __init__(self, course: RateSchedule, delay: Nanoseconds, buffer: Size, drop: Callable[[Packet], None]) -> None:
        super().__init__(course.highest, delay, buffer, drop)
        self.course = course

    def transmit(self, size: Size, now: Nanoseconds) -> Nanoseconds | None:
        """When a packet of `size` bytes that arrives now reaches the far end; None if the buffer is full."""
        begin = max(self.free_at, now)
        if begin > now and self.waiting(now) > self.buffer - size:
            self.drops += 1
            return None
        self.carried += size
        self.free_at = self.course.end(begin, size)
        return self.free_at + self.delay

    def waiting(self, now: Nanoseconds) -> float:
        """Bytes that were taken in and have not left yet."""
        return max(0.0, self.course.bits(self.free_at) - self.course.bits(now)) / 8 if self.free_at > now else 0.0
