"""Streams of packets through a shaper, in simulated time: how much of each comes out, and how long it waited."""

from collections.abc import Sequence
from heapq import heapify, heapreplace

from wily_sluice.engine.classify.condition import LONGEST_PACKET
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.framing import Framing
from wily_sluice.engine.limit.limiter import bucket_of
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.shaper import Shaper
from wily_sluice.forecast.prove.setting import FULL, Came, Stream
from wily_sluice.units import BYTE_TIME, MILLISECOND, Direction, Nanoseconds, Rate, Size

WARMUP = 0.25  # of the whole time, in which nothing is counted
STEP: Nanoseconds = 10_000  # if a shaper has nothing to release although its time has come
PERCENTILE = 95


def flood(
    shaper: Shaper, way: Direction, framing: Framing, streams: Sequence[Stream], lasts: Nanoseconds, spent: bool = False
) -> tuple[Came, ...]:
    """Send all streams for a time. Queues start empty; quotas are used up if `spent`."""
    conversations: list[Conversation] = []
    for stream in streams:
        conversation = stream.example.conversation()
        lane = shaper.lane_for(conversation, stream.example.subject(conversation))
        if way == "up":
            conversation.up_lane = lane
        else:
            conversation.down_lane = lane
        for bucket in (bucket_of(lane, stage) for stage in range(len(lane.buckets))):
            if spent and bucket.account is not None:
                bucket.account.used = bucket.limiter.spec.quota or 0
        conversations.append(conversation)
    index_of = {id(one): number for number, one in enumerate(conversations)}
    carried: list[Size] = [0] * len(streams)
    waits: list[list[Nanoseconds]] = [[] for _ in streams]
    begin = round(lasts * WARMUP)
    sizes = [framing.cost(stream.length) for stream in streams]
    gaps = [max(1, size * BYTE_TIME // stream.rate) for size, stream in zip(sizes, streams, strict=True)]
    due = [(gap * number // len(streams), number) for number, gap in enumerate(gaps)]
    heapify(due)
    now: Nanoseconds = 0
    while now < lasts:
        free = shaper.next_release(now)
        if free is not None and free <= due[0][0]:
            now = max(now, free)
            packet = shaper.release(now)
            if packet is None:
                now = min(now + STEP, max(now, due[0][0]))
                if now == due[0][0]:
                    now = _offer(shaper, streams, conversations, sizes, gaps, due)
            elif now >= begin:
                number = index_of[id(packet.conversation)]
                carried[number] += packet.size
                waits[number].append(now - packet.arrived)
        else:
            now = _offer(shaper, streams, conversations, sizes, gaps, due)
    counted = lasts - begin
    return tuple(
        Came(size * BYTE_TIME / counted, percentile(waited, PERCENTILE), max(waited, default=0))
        for size, waited in zip(carried, waits, strict=True)
    )


def percentile(waits: Sequence[Nanoseconds], percent: int) -> Nanoseconds:
    """The wait that this percentage does not exceed; 0 without any."""
    return sorted(waits)[(len(waits) - 1) * percent // 100] if waits else 0


def _offer(
    shaper: Shaper,
    streams: Sequence[Stream],
    conversations: Sequence[Conversation],
    sizes: Sequence[Size],
    gaps: Sequence[Nanoseconds],
    due: list[tuple[Nanoseconds, int]],
) -> Nanoseconds:
    """Offer the next packet; returns when the one after it is due."""
    now, number = due[0]
    stream = streams[number]
    length = min(stream.length, stream.example.length) if stream.example.length < LONGEST_PACKET else stream.length
    packet = Packet(sizes[number], conversations[number], length=length, kind=stream.example.kind)
    shaper.offer(packet, now)
    heapreplace(due, (now + gaps[number], number))
    return now


def time_for(rate: Rate, packets: int = 5_000, least: Nanoseconds = 400 * MILLISECOND) -> Nanoseconds:
    """How long to flood a line of this rate, so that about so many packets come through it."""
    return max(least, packets * FULL * BYTE_TIME // rate)
