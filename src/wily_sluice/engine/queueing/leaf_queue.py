"""The queue of a leaf or of a limiter's bucket, and its two plain forms: first in, first out, and refusing all.

A leaf that is one first-in-first-out queue, which loses at its tail when it is full, as RFC 7567 calls tail drop.

Invariants: the order is kept; each packet is returned or handed to `drop`, once.

A leaf of a queue that an uplink refuses: it drops every packet.

It remembers their conversations, so that the caller can route these elsewhere.
"""

from collections import deque
from collections.abc import Callable
from typing import TYPE_CHECKING, Final

from wily_sluice.engine.packet import Packet
from wily_sluice.units import Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.flow_path import FlowPath


class LeafQueue:
    """`backlog` and `length` are the bytes and packets that stand here, `limit` and `packet_limit` how many may.

    What does not fit, or has stood too long, is handed to `drop`, which must not call back.
    """

    __slots__ = ("_drop", "backlog", "length", "limit", "packet_limit")

    def __init__(self, drop: Callable[[Packet], None], limit: Size, packet_limit: int) -> None:
        self._drop = drop
        self.limit = limit
        self.packet_limit = packet_limit
        self.backlog: Size = 0
        self.length = 0

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take in a packet whose flow path is set."""
        raise NotImplementedError

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The next packet to send; None when there is none, or the last was dropped."""
        raise NotImplementedError

    def reconfigure(self, other: "LeafQueue") -> bool:
        """Hold packets from now on as `other`, a new one, would; False where that takes one of another kind."""
        raise NotImplementedError

    def withdraw(self, flow_path: "FlowPath") -> list[Packet]:
        """Remove the packets of a flow path, in order."""
        raise NotImplementedError

    def drain(self) -> list[Packet]:
        """Remove all packets, in order of arrival, without drops."""
        raise NotImplementedError

    def dissolve(self) -> None:
        """End the use of an empty queue, without leaving a reference cycle."""


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

    def withdraw(self, flow_path: "FlowPath") -> list[Packet]:
        """Remove the packets of a flow_path. The work grows with the length of the queue."""
        gone = [packet for packet in self._packets if packet.flow_path is flow_path]
        if gone:
            self._packets = deque(packet for packet in self._packets if packet.flow_path is not flow_path)
            self.length -= len(gone)
            self.backlog -= sum(packet.size for packet in gone)
        return gone

    def drain(self) -> list[Packet]:
        """Take out everything."""
        packets = list(self._packets)
        self._packets.clear()
        self.backlog = self.length = 0
        return packets


MOST_REFUSED: Final = 64


class Refusing(LeafQueue):
    """`refused` are keys of conversations, until the caller takes them."""

    __slots__ = ("refused",)

    def __init__(self, drop: Callable[[Packet], None]) -> None:
        super().__init__(drop, 0, 0)
        self.refused: set[bytes] = set()

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Drop a packet."""
        if len(self.refused) < MOST_REFUSED:
            self.refused.add(packet.conversation.key)
        self._drop(packet)

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """Nothing."""
        return None

    def reconfigure(self, other: LeafQueue) -> bool:
        """Continue, if the other also refuses."""
        return isinstance(other, Refusing)

    def withdraw(self, flow_path: "FlowPath") -> list[Packet]:
        """Nothing."""
        return []

    def drain(self) -> list[Packet]:
        """Nothing."""
        return []

    def take_refused(self) -> list[bytes]:
        """The conversations that were refused since the last call."""
        refused, self.refused = sorted(self.refused), set()
        return refused
