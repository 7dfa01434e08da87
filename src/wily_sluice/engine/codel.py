"""CoDel: a queue that keeps its own standing delay short; and a leaf that is one such queue.

Source: RFC 8289 (§5, the pseudocode; names follow it). A queue whose packets have all waited longer than `target` for
a whole `interval` drops its head, and again at intervals that shrink with the square root of the count of drops,
until the wait falls below target. Times are nanoseconds, sizes bytes.

Invariants: packets leave in the order in which they came; each is either returned or handed to `drop`, once;
`backlog` is the sum of the sizes of what stands in the queue.
"""

from collections import deque
from collections.abc import Callable
from math import isqrt

from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.packet import Packet
from wily_sluice.units import MILLISECOND, Nanoseconds, Size

TARGET: Nanoseconds = 5 * MILLISECOND
INTERVAL: Nanoseconds = 100 * MILLISECOND


def control_law(t: Nanoseconds, count: int, interval: Nanoseconds) -> Nanoseconds:
    """When the drop after the `count`-th one is due: interval / sqrt(count) after `t`."""
    return t + interval * 1024 // isqrt(count << 20)


class CodelQueue:
    """One first-in-first-out queue under CoDel."""

    __slots__ = (
        "backlog",
        "count",
        "drop_next",
        "dropping",
        "first_above_time",
        "interval",
        "lastcount",
        "packets",
        "target",
    )

    def __init__(self, target: Nanoseconds = TARGET, interval: Nanoseconds = INTERVAL) -> None:
        self.packets: deque[Packet] = deque()
        self.backlog: Size = 0
        self.target = target
        self.interval = interval
        self.first_above_time: Nanoseconds = 0
        self.drop_next: Nanoseconds = 0
        self.count = 0
        self.lastcount = 0
        self.dropping = False

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in. There is no limit here: whoever owns the queue holds it to one."""
        packet.entered = now
        self.packets.append(packet)
        self.backlog += packet.size

    def _dodequeue(self, now: Nanoseconds) -> tuple[Packet | None, bool]:
        """The head, and whether CoDel may drop it."""
        if not self.packets:
            self.first_above_time = 0
            return None, False
        packet = self.packets.popleft()
        self.backlog -= packet.size
        if now - packet.entered < self.target or self.backlog <= LONGEST_FRAME:
            self.first_above_time = 0
            return packet, False
        if self.first_above_time == 0:
            self.first_above_time = now + self.interval
            return packet, False
        return packet, now >= self.first_above_time

    def dequeue(self, now: Nanoseconds, drop: Callable[[Packet], None]) -> Packet | None:
        """The next packet to send, after dropping what the control law drops; None when that leaves none."""
        packet, ok_to_drop = self._dodequeue(now)
        if self.dropping:
            if not ok_to_drop:
                self.dropping = False
            while self.dropping and now >= self.drop_next:
                assert packet is not None
                drop(packet)
                self.count += 1
                packet, ok_to_drop = self._dodequeue(now)
                if ok_to_drop:
                    self.drop_next = control_law(self.drop_next, self.count, self.interval)
                else:
                    self.dropping = False
        elif ok_to_drop:
            assert packet is not None
            drop(packet)
            packet, _ = self._dodequeue(now)
            self.dropping = True
            # A queue that left the dropping state a short while ago takes up near where it stopped.
            delta = self.count - self.lastcount
            recent = now - self.drop_next < 16 * self.interval
            self.count = delta if delta > 1 and recent else 1
            self.drop_next = control_law(now, self.count, self.interval)
            self.lastcount = self.count
        return packet


class Codel:
    """A leaf queue for which all conversations are one. `limit` is in bytes, `most` in packets; one always fits."""

    __slots__ = ("_drop", "_queue", "limit", "most")

    def __init__(self, drop: Callable[[Packet], None], limit: Size, most: int, target: Nanoseconds = TARGET) -> None:
        self._drop = drop
        self._queue = CodelQueue(target)
        self.limit = limit
        self.most = most

    @property
    def length(self) -> int:
        """How many packets stand here."""
        return len(self._queue.packets)

    @property
    def backlog(self) -> Size:
        """How many bytes they have together."""
        return self._queue.backlog

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in, or drop it when it does not fit."""
        queue = self._queue
        if queue.packets and (queue.backlog + packet.size > self.limit or len(queue.packets) >= self.most):
            self._drop(packet)
        else:
            queue.enqueue(packet, now)

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The next packet to send; None when nothing stands here, or CoDel dropped the last of it."""
        return self._queue.dequeue(now, self._drop)
