"""All limiters of one direction, in series ahead of the trees; shared by all uplinks.

Several limiters on one conversation act in the order of the plan; the lowest rate wins. The order within a conversation
is kept; packets are lost only if a bucket's queue or meter hands them to `drop`.
"""

from collections.abc import Callable
from heapq import heapify, heappop, heappush
from typing import TYPE_CHECKING, Final, cast

from wily_sluice.engine.limit.limiter import Bucket, Limiter, bucket_of
from wily_sluice.engine.limit.meters import Allowance
from wily_sluice.engine.packet import LONGEST_FRAME, Packet
from wily_sluice.engine.queueing.fq_codel import FqCodel
from wily_sluice.units import BYTE_TIME, MILLISECOND, Nanoseconds, Rate, Size, transmission_time

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.flow_path import FlowPath


LONGEST_WAIT: Final[Nanoseconds] = 500 * MILLISECOND  # of backlog, at the limiter's rate
FEWEST_BYTES: Final[Size] = 64 * LONGEST_FRAME


class LimiterBank:
    """What gets through them all is handed to `forward`."""

    __slots__ = ("_drop", "_forward", "_now", "_order", "limiters", "waiting")

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
        self._now: Nanoseconds = 0  # of the last call
        self.waiting: list[tuple[Nanoseconds, int, Bucket]] = []  # heap: when each bucket's next packet may pass

    def offer(self, packet: Packet, now: Nanoseconds) -> None:
        """Take in a packet whose flow path is set, at the limiter of its `stage`."""
        assert packet.flow_path is not None
        self._now = now
        buckets = packet.flow_path.buckets
        while packet.stage < len(buckets):
            bucket = cast(Bucket, buckets[packet.stage])
            limiter = bucket.limiter
            limiter.tally.enter(packet.length, now)
            if bucket.queue is not None:
                bucket.queue.enqueue(packet, now)
                return
            if limiter.active and limiter.holds(bucket):
                meter = bucket.meter
                allowance = limiter.allowance(packet)
                rate = limiter.rate if allowance is None else allowance.level(now)
                if meter is not None:
                    if not limiter.police(bucket, meter, packet, now, rate, allowance):
                        self._dropped(packet)
                        return
                elif bucket.clock > now:
                    self._hold(bucket, packet, now, rate, allowance)
                    return
                else:
                    bucket.charge(packet.size, now, rate)
                if allowance is not None:
                    allowance.count(bucket.draw(allowance, now), packet.size, now)
            limiter.tally.leave(packet.length, packet.marked, now, 0)
            packet.stage += 1
        self._forward(packet, now)

    def _hold(self, bucket: Bucket, packet: Packet, now: Nanoseconds, rate: Rate, allowance: Allowance | None) -> None:
        limit = max(FEWEST_BYTES, rate * LONGEST_WAIT // BYTE_TIME)
        target = max(5 * MILLISECOND, 3 * transmission_time(LONGEST_FRAME, rate) // 2)
        queue = FqCodel(self._dropped, limit, target=target)
        bucket.hold(queue, allowance, now)
        queue.enqueue(packet, now)
        self._await(bucket)

    def _await(self, bucket: Bucket) -> None:
        self._order += 1
        heappush(self.waiting, (bucket.clock, self._order, bucket))

    def _dropped(self, packet: Packet) -> None:
        assert packet.flow_path is not None
        limiter = bucket_of(packet.flow_path, packet.stage).limiter
        limiter.drops += 1
        limiter.tally.lose(packet.length, self._now)
        if packet.tally is not None:
            packet.tally.lose(packet.length, self._now)
        self._drop(packet)

    def withdraw(self, flow_path: "FlowPath", stage: int, now: Nanoseconds) -> list[Packet]:
        """Remove the packets of a flow path from the limiter of a stage, in order."""
        bucket = bucket_of(flow_path, stage)
        if bucket.queue is None or flow_path.held is None:
            return []
        packets = bucket.queue.withdraw_flow(flow_path.held[stage])
        for packet in packets:
            bucket.limiter.tally.move(packet.length, now)
        return packets

    def reconfigure(self, other: "LimiterBank", now: Nanoseconds) -> None:
        """Go on with the limiters of `other`, a new one; those that were here before go on as they are.

        Packets waiting at a limiter that was removed are released at the next `advance`.
        """
        before: dict[str, Limiter] = {limiter.spec.name: limiter for limiter in self.limiters if limiter is not None}
        limiters: list[Limiter | None] = []
        for limiter in other.limiters:
            old = before.get(limiter.spec.name) if limiter is not None else None
            if limiter is None or old is None or not old.reconfigure(limiter, now):
                limiters.append(limiter)
            else:
                limiters.append(before.pop(limiter.spec.name))
        for old in before.values():
            old.active = False
        self.limiters = tuple(limiters)
        self.waiting = [
            (bucket.clock if bucket.limiter.active else 0, order, bucket) for _, order, bucket in self.waiting
        ]
        heapify(self.waiting)

    def advance(self, now: Nanoseconds) -> None:
        """Pass packets whose time has come: entries of `waiting` that are not beyond now."""
        self._now = now
        while self.waiting and self.waiting[0][0] <= now:
            bucket = heappop(self.waiting)[2]
            assert bucket.queue is not None
            packet = bucket.queue.dequeue(now)
            if packet is None:
                bucket.let_go(now)
                continue
            limiter = bucket.limiter
            if limiter.active and limiter.holds(bucket):
                allowance = limiter.allowance(packet)
                bucket.charge(packet.size, now, limiter.rate if allowance is None else allowance.level(now), True)
                if allowance is not None:
                    allowance.count(bucket.draw(allowance, now), packet.size, now)
            self._await(bucket)
            bucket.limiter.tally.leave(packet.length, packet.marked, now, now - packet.entered)
            packet.stage += 1
            self.offer(packet, now)
