"""All limiters of one direction, standing one behind another before the trees; shared by all uplinks.

Several limiters on one conversation stand in the order of the plan; the tightest decides. The order within a
conversation is kept; nothing is lost but what a bucket's queue or meter hands to `drop`.
"""

from collections.abc import Callable
from heapq import heappop, heappush

from wily_sluice.engine.fq_codel import FqCodel
from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.limiter import Bucket, Limiter
from wily_sluice.engine.packet import Packet
from wily_sluice.units import BYTE_TIME, MILLISECOND, Nanoseconds, Size, transmission_time

LONGEST_WAIT: Nanoseconds = 500 * MILLISECOND  # of backlog, at the limiter's rate
FEWEST_BYTES: Size = 64 * LONGEST_FRAME


class LimiterBank:
    """What gets through them all is handed to `forward`."""

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
            limiter = bucket.limiter
            if bucket.queue is not None:
                bucket.queue.enqueue(packet, now)
                return
            if limiter.holds(bucket, packet, now):
                meter = bucket.meter
                if meter is not None:
                    if not limiter.police(meter, packet, now):
                        self._dropped(packet)
                        return
                elif bucket.clock > now:
                    self._hold(bucket, packet, now)
                    return
                else:
                    bucket.charge(packet.size, now)
            if bucket.account is not None:
                bucket.account.count(packet.length)
            packet.stage += 1
        self._forward(packet, now)

    def _hold(self, bucket: Bucket, packet: Packet, now: Nanoseconds) -> None:
        rate = bucket.limiter.rate
        limit = max(FEWEST_BYTES, rate * LONGEST_WAIT // BYTE_TIME)
        target = max(5 * MILLISECOND, 3 * transmission_time(LONGEST_FRAME, rate) // 2)
        bucket.queue = FqCodel(self._dropped, limit, target=target)
        bucket.queue.enqueue(packet, now)
        self._await(bucket)

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
            bucket = heappop(self.waiting)[2]
            assert bucket.queue is not None
            packet = bucket.queue.dequeue(now)
            if packet is None:
                bucket.queue = None
                continue
            if bucket.limiter.active and bucket.limiter.holds(bucket, packet, now):
                bucket.charge(packet.size, now, waited=True)
            self._await(bucket)
            if bucket.account is not None:
                bucket.account.count(packet.length)
            packet.stage += 1
            self.offer(packet, now)
