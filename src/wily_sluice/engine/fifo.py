"""A leaf that is one first-in-first-out queue, which loses at its tail when it is full, as RFC 7567 calls tail drop.

Invariants: the order is kept; each packet is returned or handed to `drop`, once.
"""

from collections import deque
from collections.abc import Callable

from wily_sluice.engine.packet import Packet
from wily_sluice.units import Nanoseconds, Size


class Fifo:
    """A leaf queue. `limit` is in bytes and `most` in packets; one packet always fits."""

    __slots__ = ("_drop", "_packets", "backlog", "limit", "most")

    def __init__(self, drop: Callable[[Packet], None], limit: Size, most: int) -> None:
        self._drop = drop
        self._packets: deque[Packet] = deque()
        self.limit = limit
        self.most = most
        self.backlog: Size = 0

    @property
    def length(self) -> int:
        """How many packets stand here."""
        return len(self._packets)

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in, or drop it when it does not fit."""
        if self._packets and (self.backlog + packet.size > self.limit or len(self._packets) >= self.most):
            self._drop(packet)
            return
        packet.entered = now
        self._packets.append(packet)
        self.backlog += packet.size

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The packet that has waited longest."""
        if not self._packets:
            return None
        packet = self._packets.popleft()
        self.backlog -= packet.size
        return packet
