"""A leaf that is one first-in-first-out queue, which loses at its tail when it is full, as RFC 7567 calls tail drop.

Invariants: the order is kept; each packet is returned or handed to `drop`, once.
"""

from collections import deque
from collections.abc import Callable
from typing import TYPE_CHECKING

from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.leaf_queue import LeafQueue
from wily_sluice.units import Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.lane import Lane


class Fifo(LeafQueue):
    """One packet always fits."""

    __slots__ = ("_packets",)

    def __init__(self, drop: Callable[[Packet], None], limit: Size, packet_limit: int) -> None:
        super().__init__(drop, limit, packet_limit)
        self._packets: deque[Packet] = deque()

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in, or drop it when it does not fit."""
        if self.length and (self.backlog + packet.size > self.limit or self.length >= self.packet_limit):
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

    def reconfigure(self, other: LeafQueue) -> bool:
        """Take on its limits."""
        if not isinstance(other, Fifo):
            return False
        self.limit, self.packet_limit = other.limit, other.packet_limit
        return True

    def withdraw(self, lane: "Lane") -> list[Packet]:
        """Remove the packets of a lane. The work grows with the length of the queue."""
        gone = [packet for packet in self._packets if packet.lane is lane]
        if gone:
            self._packets = deque(packet for packet in self._packets if packet.lane is not lane)
            self.length -= len(gone)
            self.backlog -= sum(packet.size for packet in gone)
        return gone

    def drain(self) -> list[Packet]:
        """Take out everything."""
        packets = list(self._packets)
        self._packets.clear()
        self.backlog = self.length = 0
        return packets
