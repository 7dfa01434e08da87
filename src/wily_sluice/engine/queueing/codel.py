"""CoDel: a queue that keeps its own standing delay short; and a leaf with a single such queue.

Source: RFC 8289 (§5, the pseudocode; names follow it). If all packets were delayed by more than `target` for a whole
`interval`, the queue drops its head, and again at intervals that shrink with the square root of the number of drops,
until the delay falls below target. A packet with ECN (RFC 3168) gets an ECN mark instead. Times are nanoseconds, sizes
bytes.

Invariants: packets leave in the order of arrival; each is returned or handed to `drop`, once.
"""

from collections.abc import Callable
from math import isqrt
from typing import TYPE_CHECKING, Final

from wily_sluice.engine.packet import LONGEST_FRAME, Packet
from wily_sluice.engine.queueing.drr import Contender
from wily_sluice.engine.queueing.leaf_queue import LeafQueue
from wily_sluice.units import MILLISECOND, Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.flow_path import FlowPath

TARGET: Final[Nanoseconds] = 5 * MILLISECOND
INTERVAL: Final[Nanoseconds] = 100 * MILLISECOND


def control_law(t: Nanoseconds, count: int, interval: Nanoseconds) -> Nanoseconds:
    """When the drop after the `count`-th one is due: interval / sqrt(count) after `t`."""
    return t + interval * 1024 // isqrt(count << 20)


class CodelQueue(Contender):
    """One first-in-first-out queue under CoDel, which may take turns with others."""

    __slots__ = (
        "_head",
        "_tail",
        "count",
        "drop_next",
        "dropping",
        "ecn",
        "first_above_time",
        "interval",
        "largest",
        "lastcount",
        "target",
    )

    def __init__(
        self,
        target: Nanoseconds = TARGET,
        interval: Nanoseconds = INTERVAL,
        ecn: bool = True,
        largest: Size = LONGEST_FRAME,
    ) -> None:
        super().__init__()
        self.largest = largest  # what the largest packet costs on the line: the RFC's maxpacket
        self._head: Packet | None = None  # linked by `behind`: thousands of queues of few packets then take little room
        self._tail: Packet | None = None
        self.target = target
        self.interval = interval
        self.ecn = ecn
        self.first_above_time: Nanoseconds = 0
        self.drop_next: Nanoseconds = 0
        self.count = 0
        self.lastcount = 0
        self.dropping = False

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in. There is no limit here; the owner of the queue enforces one."""
        packet.entered = now
        if self._tail is None:
            self._head = packet
        else:
            self._tail.behind = packet
        self._tail = packet
        self.backlog += packet.size
        self.length += 1

    def take(self) -> Packet | None:
        """The head, whatever CoDel would do with it."""
        packet = self._head
        if packet is not None:
            self._head = packet.behind
            if self._head is None:
                self._tail = None
            packet.behind = None
            self.backlog -= packet.size
            self.length -= 1
        return packet

    def drain(self) -> list[Packet]:
        """Take everything, from the head on."""
        packets: list[Packet] = []
        while (packet := self.take()) is not None:
            packets.append(packet)
        return packets

    def _ok_to_drop(self, packet: Packet | None, now: Nanoseconds) -> bool:
        """Whether CoDel may drop the packet that was just taken: the end of the RFC's `dodequeue`."""
        if packet is None or now - packet.entered < self.target or self.backlog <= self.largest:
            self.first_above_time = 0
            return False
        if self.first_above_time == 0:
            self.first_above_time = now + self.interval
            return False
        return now >= self.first_above_time

    def dequeue(self, now: Nanoseconds, drop: Callable[[Packet], None]) -> Packet | None:
        """The next packet to send, after the drops or ECN marks of the control law; None if no packet is left.

        A packet that supports ECN is marked and sent instead of dropped (RFC 3168 §5, RFC 8289 §5.7).
        """
        packet = self.take()
        ok_to_drop = self._ok_to_drop(packet, now)
        if self.dropping:
            if not ok_to_drop:
                self.dropping = False
            while self.dropping and now >= self.drop_next:
                assert packet is not None
                self.count += 1
                if packet.ecn and self.ecn:
                    packet.marked = True
                    self.drop_next = control_law(self.drop_next, self.count, self.interval)
                    break
                drop(packet)
                packet = self.take()
                if self._ok_to_drop(packet, now):
                    self.drop_next = control_law(self.drop_next, self.count, self.interval)
                else:
                    self.dropping = False
        elif ok_to_drop:
            assert packet is not None
            if packet.ecn and self.ecn:
                packet.marked = True
            else:
                drop(packet)
                packet = self.take()
                self._ok_to_drop(packet, now)
            self.dropping = True
            # A queue that left the dropping state a short while ago takes up near where it stopped.
            delta = self.count - self.lastcount
            recent = now - self.drop_next < 16 * self.interval
            self.count = delta if delta > 1 and recent else 1
            self.drop_next = control_law(now, self.count, self.interval)
            self.lastcount = self.count
        return packet


class Codel(LeafQueue):
    """A leaf with one queue for all conversations. One packet always fits."""

    __slots__ = ("_queue",)

    def __init__(
        self,
        drop: Callable[[Packet], None],
        limit: Size,
        packet_limit: int,
        target: Nanoseconds = TARGET,
        ecn: bool = True,
        largest: Size = LONGEST_FRAME,
    ) -> None:
        super().__init__(drop, limit, packet_limit)
        self._queue = CodelQueue(target, ecn=ecn, largest=largest)

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in, or drop it when it does not fit."""
        if self.length and (self.backlog + packet.size > self.limit or self.length >= self.packet_limit):
            self._drop(packet)
            return
        self._queue.enqueue(packet, now)
        self.backlog, self.length = self._queue.backlog, self._queue.length

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The next packet to send; None if the queue is empty, or CoDel dropped the last packet."""
        packet = self._queue.dequeue(now, self._drop)
        self.backlog, self.length = self._queue.backlog, self._queue.length
        return packet

    def reconfigure(self, other: LeafQueue) -> bool:
        """Take on its limits and target."""
        if not isinstance(other, Codel):
            return False
        self.limit, self.packet_limit = other.limit, other.packet_limit
        own, new = self._queue, other._queue
        own.target, own.ecn, own.largest = new.target, new.ecn, new.largest
        return True

    def withdraw(self, flow_path: "FlowPath") -> list[Packet]:
        """Remove the packets of a flow_path. The work grows with the length of the queue."""
        gone: list[Packet] = []
        for packet in self._queue.drain():
            if packet.flow_path is flow_path:
                gone.append(packet)
            else:
                self._queue.enqueue(packet, packet.entered)
        self.backlog, self.length = self._queue.backlog, self._queue.length
        return gone

    def drain(self) -> list[Packet]:
        """Take out everything."""
        packets = self._queue.drain()
        self.backlog, self.length = self._queue.backlog, self._queue.length
        return packets
