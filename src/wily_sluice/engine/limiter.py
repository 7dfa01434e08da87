"""Limiters: cap whoever they name, and hold back what is over.

A limiter has one bucket for everyone it names, or one for each local host. A bucket is a virtual clock (the generic
cell rate algorithm of ITU-T I.371, in the form with a theoretical arrival time): each packet moves it on by its own
time at the limiter's rate, and a packet may pass when the clock is not ahead of now. While idle the clock falls behind
by at most `burst`, which is what may pass at once afterwards. What has to wait stands in the bucket's own FQ-CoDel
queue, so that one conversation of a host does not delay another.

Several limiters on one conversation stand one behind another, in the order of the plan; the tightest decides. They
stand before the tree, and are shared by all uplinks of one direction.

Invariants: over any window of t, a bucket passes at most rate x t + burst + one packet; the order within a
conversation is kept; nothing is lost but what the bucket's queue hands to `drop`.
"""

from collections.abc import Callable
from heapq import heappop, heappush
from weakref import WeakValueDictionary

from mypy_extensions import mypyc_attr

from wily_sluice.engine.conversation import Conversation
from wily_sluice.engine.fq_codel import FqCodel
from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.packet import Packet
from wily_sluice.units import BYTE_TIME, MILLISECOND, Nanoseconds, Rate, Size, transmission_time

BURST_TIME: Nanoseconds = 20 * MILLISECOND
BURST_FRAMES = 4
LONGEST_WAIT: Nanoseconds = 500 * MILLISECOND  # of backlog, at the limiter's rate
FEWEST_BYTES: Size = 64 * LONGEST_FRAME


@mypyc_attr(native_class=False)  # which compiled classes are, and those take no weak references
class Bucket:
    """What one host, or everyone together, may send under a limiter."""

    __slots__ = ("__weakref__", "burst", "clock", "limiter", "queue")

    def __init__(self, limiter: "Limiter") -> None:
        self.limiter = limiter
        self.burst: Nanoseconds = max(BURST_TIME, transmission_time(BURST_FRAMES * LONGEST_FRAME, limiter.rate))
        self.clock: Nanoseconds = 0
        self.queue: FqCodel | None = None  # only while something waits

    def charge(self, size: Size, now: Nanoseconds) -> None:
        """Count a packet that passes."""
        behind = now - self.burst
        self.clock = (self.clock if self.clock > behind else behind) + size * BYTE_TIME // self.limiter.rate


class Limiter:
    """A limiter in one direction. Buckets live as long as a conversation or a waiting packet refers to them."""

    __slots__ = ("_buckets", "drops", "name", "per_host", "rate")

    def __init__(self, name: str, rate: Rate, per_host: bool) -> None:
        if rate < 1:
            raise ValueError(f"limiter {name}: a rate is at least 1 bit/s, not {rate}")
        self.name = name
        self.rate = rate
        self.per_host = per_host
        self.drops = 0
        self._buckets: WeakValueDictionary[bytes, Bucket] = WeakValueDictionary()

    def __len__(self) -> int:
        return len(self._buckets)

    def bucket(self, conversation: Conversation) -> Bucket:
        """The bucket that the conversation draws from."""
        host = conversation.parties.local if self.per_host else b""
        bucket = self._buckets.get(host)
        if bucket is None:
            bucket = self._buckets[host] = Bucket(self)
        return bucket


class LimiterBank:
    """All limiters of one direction. What gets through them all is handed to `forward`."""

    __slots__ = ("_drop", "_forward", "_order", "limiters", "waiting")

    def __init__(
        self,
        limiters: tuple[Limiter | None, ...],
        forward: Callable[[Packet, Nanoseconds], None],
        drop: Callable[[Packet], None],
    ) -> None:
        self.limiters = limiters
        self._forward = forward
        self._drop = drop
        self._order = 0
        self.waiting: list[tuple[Nanoseconds, int, Bucket]] = []  # heap: when each bucket's next packet may pass

    def offer(self, packet: Packet, now: Nanoseconds) -> None:
        """Take in a packet whose lane is set, at the limiter of its `stage`."""
        assert packet.lane is not None
        buckets = packet.lane.buckets
        while packet.stage < len(buckets):
            bucket = buckets[packet.stage]
            if bucket.queue is not None:
                bucket.queue.enqueue(packet, now)
                return
            if bucket.clock > now:
                rate = bucket.limiter.rate
                limit = max(FEWEST_BYTES, rate * LONGEST_WAIT // BYTE_TIME)
                target = max(5 * MILLISECOND, 3 * transmission_time(LONGEST_FRAME, rate) // 2)
                bucket.queue = FqCodel(self._dropped, limit, target=target)
                bucket.queue.enqueue(packet, now)
                self._await(bucket)
                return
            bucket.charge(packet.size, now)
            packet.stage += 1
        self._forward(packet, now)

    def _await(self, bucket: Bucket) -> None:
        self._order += 1
        heappush(self.waiting, (bucket.clock, self._order, bucket))

    def _dropped(self, packet: Packet) -> None:
        assert packet.lane is not None
        packet.lane.buckets[packet.stage].limiter.drops += 1
        self._drop(packet)

    def advance(self, now: Nanoseconds) -> None:
        """Let pass what has waited long enough: whatever `waiting` has whose time is not beyond now."""
        while self.waiting and self.waiting[0][0] <= now:
            _, _, bucket = heappop(self.waiting)
            assert bucket.queue is not None
            packet = bucket.queue.dequeue(now)
            if packet is None:
                bucket.queue = None
                continue
            bucket.charge(packet.size, now)
            self._await(bucket)
            packet.stage += 1
            self.offer(packet, now)
