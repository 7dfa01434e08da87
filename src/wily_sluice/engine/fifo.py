"""A leaf that is one first-in-first-out queue, which loses at its tail when it is full, as RFC 7567 calls tail drop.

Invariants: the order is kept; each packet is returned or handed to `drop`, once.
"""

from collections import deque
from collections.abc import Callable

from wily_sluice.engine.leaf_queue import LeafQueue
from wily_sluice.engine.packet import Packet
from wily_sluice.units import Nanoseconds, Size


class Fifo(LeafQueue):
    """One packet always fits."""

    __slots__ = ("_packets",)

    def __init__(self, drop: Callable[[Packet], None], limit: Size, most: int) -> None:
        super().__init__(drop, limit, most)
        self._packets: deque[Packet] = deque()

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in, or drop it when it does not fit."""
        if self.length and (self.backlog + packet.size > self.limit or self.length >= self.most):
            self._drop(packet)
            return
        packet.entered = now
        self._packets.append(packet)
        self.backlog += packet.size
        self.length += 1

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The packet that has waited longest."""
        if not self.length:
            return None
        packet = self._packets.popleft()
        self.backlog -= packet.size
        self.length -= 1
        return packet
